package linux

import (
	"bufio"
	"bytes"
	_ "embed"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"
	"time"

	"yareharbour/core/estate"
)

//go:embed probe.sh
var probe string

// Probe is a script for a POSIX shell that prints all that Read looks at for those sections, or for all, on a machine
// that is reached in another way than by its file system. It needs GNU grep, find and timeout, as every distribution
// has that is made of dpkg or rpm packages. As root it sees more: the programs of every process, and the firewall's
// rules. No command of it runs longer than limit, which counts in whole seconds and is one at least.
func Probe(limit time.Duration, sections ...estate.SectionName) string {
	if len(sections) == 0 {
		sections = Sections
	}
	var want []string
	for _, s := range Sections {
		if slices.Contains(sections, s) {
			want = append(want, string(s))
		}
	}
	return fmt.Sprintf("want='%s' limit=%d\n%s", strings.Join(want, " "), max(1, int(limit/time.Second)), probe)
}

// Probed is what a probe brought. It holds what the probe asked for and no more.
type Probed struct {
	files   map[string]*bytes.Buffer
	links   map[string]string
	denied  map[string]bool
	outputs map[string]*bytes.Buffer
	failed  map[string]string
	late    map[estate.SectionName]string
	names   []string // of files, links and their directories, sorted
}

// errProbe is what an answer gives that is not a whole probe's.
var errProbe = errors.New(
	"the machine did not answer as a Linux machine with a POSIX shell, GNU grep, find and timeout does")

// maxLine is the longest line of an answer, in bytes.
const maxLine = 4 << 20

// ParseProbe reads what the probe printed. An answer that breaks off is an error.
func ParseProbe(r io.Reader) (*Probed, error) {
	p := &Probed{files: map[string]*bytes.Buffer{}, links: map[string]string{}, denied: map[string]bool{},
		outputs: map[string]*bytes.Buffer{}, failed: map[string]string{}, late: map[estate.SectionName]string{}}
	sc := bufio.NewScanner(r)
	sc.Buffer(nil, maxLine)
	begun, ended, strange := false, false, ""
	for sc.Scan() {
		name, text, ok := strings.Cut(sc.Text(), "\x00")
		switch {
		case !ok || name == "":
			if strange == "" {
				strange = sc.Text()
			}
		case name == "=probe":
			begun = true
		case name == "=end":
			ended = true
		case name == "=late":
			section, command, _ := strings.Cut(text, " ")
			p.late[estate.SectionName(section)] = strings.TrimSpace(command)
		default:
			p.add(name, text)
		}
	}
	switch {
	case sc.Err() != nil:
		return nil, fmt.Errorf("reading its answer: %w", sc.Err())
	case !begun && strange != "":
		return nil, fmt.Errorf("%w: it says %q", errProbe, strange)
	case !begun:
		return nil, errProbe
	case !ended:
		return nil, errors.New("its answer breaks off")
	case len(p.files) == 0:
		return nil, fmt.Errorf("%w: it shows no file", errProbe)
	}
	p.index()
	return p, nil
}

// add files a line of the answer by the sign before its name, as probe.sh lists them.
func (p *Probed) add(name, text string) {
	of, rest := name[0], strings.TrimPrefix(name[1:], "/")
	switch of {
	case '/':
		line(p.files, name[1:], text)
	case '$':
		line(p.outputs, rest, text)
	case '?':
		p.failed[rest] = text
	case '@':
		p.links[rest] = text
	case '!':
		p.denied[rest] = true
	case '+':
		if command, ok := strings.CutPrefix(rest, "$"); ok { // one that prints nothing has an output too
			p.outputs[command] = &bytes.Buffer{}
		} else {
			p.names = append(p.names, rest)
		}
	}
}

func line(to map[string]*bytes.Buffer, name, text string) {
	if to[name] == nil {
		to[name] = &bytes.Buffer{}
	}
	to[name].WriteString(text + "\n")
}

// Late says which command of the section's had to be ended.
func (p *Probed) Late(section estate.SectionName) string { return p.late[section] }

// index lists every name with the directories above it.
func (p *Probed) index() {
	seen := map[string]bool{}
	add := func(name string) {
		for ; name != "." && !seen[name]; name = path.Dir(name) {
			seen[name] = true
		}
	}
	for name := range p.files {
		add(name)
	}
	for name := range p.links {
		add(name)
	}
	for name := range p.denied {
		add(name)
	}
	for _, name := range p.names {
		add(name)
	}
	p.names = slices.Sorted(maps.Keys(seen))
}

// ReadFile returns a file's content, of which the probe may have left out lines that are not looked at.
func (p *Probed) ReadFile(name string) ([]byte, error) {
	if b := p.files[name]; b != nil {
		return b.Bytes(), nil
	}
	return nil, &fs.PathError{Op: "open", Path: "/" + name, Err: p.why(name)}
}

// ReadLink returns where a link leads.
func (p *Probed) ReadLink(name string) (string, error) {
	if to := p.links[name]; to != "" {
		return to, nil
	}
	return "", &fs.PathError{Op: "readlink", Path: "/" + name, Err: p.why(name)}
}

func (p *Probed) why(name string) error {
	if p.denied[name] {
		return fs.ErrPermission
	}
	return fs.ErrNotExist
}

// Glob finds names.
func (p *Probed) Glob(pattern string) (out []string) {
	fixed, _, _ := strings.Cut(pattern, "*")
	fixed, _, _ = strings.Cut(fixed, "[")
	from, _ := slices.BinarySearch(p.names, fixed)
	for _, name := range p.names[from:] {
		if !strings.HasPrefix(name, fixed) {
			break
		}
		if ok, _ := path.Match(pattern, name); ok {
			out = append(out, name)
		}
	}
	return out
}

// Output returns what the probe saw the command print.
func (p *Probed) Output(command ...string) ([]byte, error) {
	name := asked(command)
	if b := p.outputs[name]; b != nil {
		return b.Bytes(), nil
	}
	if said, ok := p.failed[name]; ok {
		return nil, failed(command, said, "it fails")
	}
	return nil, fmt.Errorf("%s: %w", command[0], fs.ErrNotExist)
}

// asked is the name under which the probe tells of a command: its words, but for how it is to print.
func asked(command []string) string {
	var words []string
	for i := 0; i < len(command); i++ {
		if command[i] == "--qf" {
			i++
			continue
		}
		words = append(words, command[i])
	}
	return strings.Join(words, " ")
}
