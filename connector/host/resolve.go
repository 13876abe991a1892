package host

import (
	"bytes"
	"context"
	"encoding/base64"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"yareharbour/connector"
	"yareharbour/connector/ssh"
	"yareharbour/core/act"
	"yareharbour/core/estate"
	"yareharbour/format/deb"
)

// resolveScript asks apt what an installation would do. Packages that the host does not have yet stand there for a
// moment as hollow ones, which have all that a resolver looks at. Where all come in files they are tried alone first,
// as the wrapper puts them in; where that can't be, with the host's repositories.
const resolveScript = `PATH=$PATH:/usr/sbin:/sbin LC_ALL=C; export PATH LC_ALL
command -v apt-get >/dev/null || { echo "none this host has no apt"; echo end; exit; }
d=$(mktemp -d) || { echo "none it has no room for a moment"; echo end; exit; }
trap 'rm -rf "$d"' EXIT
chmod 755 "$d"
cd "$d" || exit
%s
apt-mark showhold | sed 's/^/hold /'
try() { apt-get -s -q -o Debug::NoLocking=1 --allow-downgrades --no-install-recommends "$@" install %s 2>&1; }
alone=%s
if [ -n "$alone" ] && try -o Dir::Etc::SourceList=/dev/null -o Dir::Etc::SourceParts=/dev/null \
	-o Dir::Cache::pkgcache= -o Dir::Cache::srcpkgcache= >out; then cat out; echo "exit 0"
else try; echo "exit $?"
fi
echo end
`

// Resolve asks the host's apt or dnf what the changes would do there. It takes no right but to log in, and nothing is
// touched.
func (s *session) Resolve(ctx context.Context, changes []connector.Wanted) act.Resolution {
	ctx, cancel := context.WithTimeout(ctx, s.by.limit())
	defer cancel()
	conn, err := s.dialled(ctx)
	if err != nil {
		return act.Resolution{Unasked: err.Error()}
	}
	ask, read := resolution, resolved
	if slices.ContainsFunc(changes, func(c connector.Wanted) bool { return c.Component.Kind() == "rpm" }) {
		ask, read = rpmResolution, rpmResolved
	}
	script, err := ask(changes)
	if err != nil {
		return act.Resolution{Unasked: err.Error()}
	}
	out, err := conn.Run(ctx, script, false)
	if err != nil {
		return act.Resolution{Unasked: err.Error()}
	}
	return read(string(out), changes)
}

// resolution is the script that asks about the changes.
func resolution(changes []connector.Wanted) (string, error) {
	var files bytes.Buffer
	var args []string
	alone := "yes"
	for i, c := range changes {
		switch {
		case c.To == "":
			args = append(args, ssh.Quote(c.Component.Name()+"-"))
		case c.Control != nil:
			control, err := c.Control()
			if err != nil {
				return "", err
			}
			fmt.Fprintf(&files, "base64 -d >%d.deb <<'E'\n%s\nE\n", i,
				base64.StdEncoding.EncodeToString(deb.Hollow(control)))
			args = append(args, fmt.Sprintf("./%d.deb", i))
		default:
			alone = ""
			args = append(args, ssh.Quote(c.Component.Name()+"="+c.To))
		}
	}
	return fmt.Sprintf(resolveScript, files.String(), strings.Join(args, " "), alone), nil
}

// aptLine is a line in which apt tells what it would do: Inst NAME[:ARCH] [OLD] (NEW …), Remv NAME [OLD].
var aptLine = regexp.MustCompile(`^(Inst|Remv) ([^\s:]+)(?::\S+)?(?: \[([^\]]*)\])?(?: \((\S+)[^)]*\))?`)

// resolved reads what apt said.
func resolved(text string, changes []connector.Wanted) (r act.Resolution) {
	wanted, wrong := byName(changes), []string(nil)
	exit, whole := "", false
	for line := range strings.Lines(text) {
		line = strings.TrimSpace(line)
		word, rest, _ := strings.Cut(line, " ")
		switch m := aptLine.FindStringSubmatch(line); {
		case m != nil:
			c, asked := wanted[m[2]]
			switch {
			case m[1] == "Remv" && !(asked && c.To == ""):
				r.Removes = append(r.Removes, estate.Key("deb:"+m[2]))
			case m[1] == "Inst" && !asked:
				r.Along = append(r.Along, act.Along{Component: estate.Key("deb:" + m[2]), From: m[3], To: m[4]})
			case m[1] == "Inst" && m[4] != c.To:
				wrong = append(wrong, fmt.Sprintf("it would bring %s %s instead of %s", m[2], m[4], c.To))
			}
		case word == "hold":
			if _, asked := wanted[rest]; asked {
				wrong = append(wrong, rest+" is held on it (apt-mark hold)")
			}
		case word == "E:", strings.Contains(line, ": Depends:"), strings.Contains(line, ": Conflicts:"),
			strings.Contains(line, ": Breaks:"):
			wrong = append(wrong, strings.TrimPrefix(line, "E: "))
		case word == "none":
			r.Unasked = rest
		case word == "exit":
			exit = rest
		case line == "end":
			whole = true
		}
	}
	return told(r, wrong, whole && exit != "", exit == "0", "apt-get ended with the exit status "+exit)
}

// byName are the changes by what apt and dnf call their packages.
func byName(changes []connector.Wanted) map[string]connector.Wanted {
	out := map[string]connector.Wanted{}
	for _, c := range changes {
		out[c.Component.Name()] = c
	}
	return out
}

// told is what a resolver's answer comes to: nothing where it did not come whole, a refusal where it names wrong or
// did not end well, which otherwise says why.
func told(r act.Resolution, wrong []string, whole, well bool, otherwise string) act.Resolution {
	switch {
	case r.Unasked != "":
	case !whole:
		r.Unasked = "its answer was cut short"
	case len(wrong) > 0:
		r.Refused = strings.Join(wrong, "; ")
	case !well:
		r.Refused = otherwise
	}
	return r
}

var _ connector.Resolver = (*session)(nil)
