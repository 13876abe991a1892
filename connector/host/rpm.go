package host

import (
	"bytes"
	"encoding/base64"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"yareharbour/connector"
	"yareharbour/core/act"
	"yareharbour/core/estate"
)

// rpmScript asks dnf what an installation would do. Packages that the host does not have yet stand there up to their
// payloads, which is all that a resolver looks at. What goes in and what goes out are two questions, as they are two
// transactions: the one command of dnf that does both, its shell, goes on with what is left where a part of it fails. A
// line of its table begins with one blank.
const rpmScript = `PATH=$PATH:/usr/sbin:/sbin LC_ALL=C; export PATH LC_ALL
command -v dnf >/dev/null || { echo "none this host has no dnf"; echo end; exit; }
d=$(mktemp -d) || { echo "none it has no room for a moment"; echo end; exit; }
trap 'rm -rf "$d"' EXIT
chmod 755 "$d"
cd "$d" || exit
%[1]s
only=%[2]s
ins='%[3]s' outs='%[4]s'
ask() {
	dnf --assumeno --noautoremove --setopt=install_weak_deps=False ${only:+"--disablerepo=*"} "$@" </dev/null >said 2>&1
	awk '
		/^[A-Z][a-z ]*:$/ { part = $1; next }
		/^ [^ ]/ && part { print (part ~ /^Remov/ ? "goes" : part ~ /^Downgr/ ? "back" : "comes"), $1, $3 }
		/^ +replacing / { sub(/\.[^.]*$/, "", $2); print "goes", $2, $3 }
		/Operation aborted|^Nothing to do/ { sure = 1; next }
		/^(Error|No match for|Unable to find|Can not load|Could not open|All matches were filtered)/ { print "wrong", $0 }
		/^ +(Problem|- )/ { print "wrong", $0 }
		END { print "exit", sure ? 0 : 1 }' said
}
[ -z "$ins" ] || ask install $ins
[ -z "$outs" ] || ask remove $outs
echo end
`

// rpmWord is a name or version that dnf is asked with.
var rpmWord = regexp.MustCompile(`^[A-Za-z0-9_][A-Za-z0-9._+~^:-]*$`)

// rpmResolution is the script that asks dnf about the changes.
func rpmResolution(changes []connector.Wanted) (string, error) {
	var files bytes.Buffer
	var ins, outs []string
	only := "yes"
	for i, c := range changes {
		name := c.Component.Name()
		if !rpmWord.MatchString(name) || c.To != "" && !rpmWord.MatchString(c.To) {
			return "", fmt.Errorf("%q %q is nothing that dnf is asked about", name, c.To)
		}
		switch {
		case c.To == "":
			outs = append(outs, name)
		case c.Control != nil:
			head, err := c.Control()
			if err != nil {
				return "", err
			}
			fmt.Fprintf(&files, "base64 -d >%d.rpm <<'E'\n%s\nE\n", i, base64.StdEncoding.EncodeToString(head))
			ins = append(ins, fmt.Sprintf("./%d.rpm", i))
		default:
			only = ""
			ins = append(ins, name+"-"+c.To)
		}
	}
	return fmt.Sprintf(rpmScript, files.String(), only, strings.Join(ins, " "), strings.Join(outs, " ")), nil
}

// rpmResolved reads what dnf said.
func rpmResolved(text string, changes []connector.Wanted) (r act.Resolution) {
	wanted, wrong := byName(changes), []string(nil)
	exit, whole := "", false
	for line := range strings.Lines(text) {
		word, rest, _ := strings.Cut(strings.TrimSpace(line), " ")
		name, version, _ := strings.Cut(rest, " ")
		c, asked := wanted[name]
		key := estate.Key("rpm:" + name)
		switch {
		case word == "goes" && !(asked && c.To == "") && !slices.Contains(r.Removes, key):
			r.Removes = append(r.Removes, key)
		case word == "comes" && !asked:
			r.Along = append(r.Along, act.Along{Component: key, To: version})
		case word == "back" && !asked:
			wrong = append(wrong, fmt.Sprintf("it would take %s back to %s", name, version))
		case (word == "comes" || word == "back") && version != c.To:
			wrong = append(wrong, fmt.Sprintf("it would bring %s %s instead of %s", name, version, c.To))
		case word == "wrong":
			wrong = append(wrong, strings.TrimSpace(rest))
		case word == "none":
			r.Unasked = rest
		case word == "exit" && exit != "1":
			exit = rest
		case word == "end":
			whole = true
		}
	}
	return told(r, wrong, whole && exit != "", exit == "0", "dnf did not say what it would do")
}
