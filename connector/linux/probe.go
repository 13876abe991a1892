package linux

import (
	"bufio"
	"bytes"
	"context"
	_ "embed" // the script
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"

	"yareharbour/core/estate"
)

// Probe is a script for a POSIX shell that prints all that Read looks at, on a machine that is reached in another way
// than by its file system. ProbeWords are the words that it is called with. It needs GNU grep, find, xargs and timeout,
// as every distribution has that is made of dpkg or rpm packages. As root it sees more: the programs of every process,
// and the firewall's rules.
//
//go:embed probe.sh
var Probe string

// ProbeWords ask a probe for those sections, or for all. No command of it runs longer than limit, and the whole not
// longer than within, where that is not zero; both count in whole seconds, and are one at least.
func ProbeWords(within, limit time.Duration, sections ...estate.SectionName) (out []string) {
	seconds := func(d time.Duration) string { return strconv.Itoa(min(max(1, int(d/time.Second)), 9999)) }
	if within > 0 {
		out = append(out, "within", seconds(within))
	}
	out = append(out, seconds(limit))
	for _, s := range Sections {
		if len(sections) == 0 || slices.Contains(sections, s) {
			out = append(out, string(s))
		}
	}
	return out
}

// Probed is what a probe brought. It holds what the probe asked for and no more.
type Probed struct {
	files   map[string]*bytes.Buffer
	links   map[string]string
	denied  map[string]bool
	outputs map[string]*bytes.Buffer
	failed  map[string]string
	late    map[estate.SectionName]string
	gone    map[string][]string
	names   []string // of files, links and their directories, sorted
}

// prober is a source that is a probe's answer.
type prober interface {
	// Late says which command of the section's did not end in time, or what of it there is more of than was told, and
	// "" where neither is so.
	Late(section estate.SectionName) string
	// Replaced are the files that processes run and that are gone from the disk, by the process's number.
	Replaced() map[string][]string
}

// errProbe is what an answer gives that is not a whole probe's.
var errProbe = errors.New(
	"the machine did not answer as a Linux machine with a POSIX shell, GNU grep, find and timeout does")

// What an answer may hold: bytes of a line and of a name, directories that a name leads through, names, lines,
// and bytes of one file or output. A probe that was not tampered with comes nowhere near.
const (
	maxLine  = 256 << 10
	maxName  = 1 << 10
	maxDepth = 24
	maxNames = 200_000
	maxLines = 600_000
	maxFile  = 16 << 20
)

// ParseProbe reads what the probe printed. An answer that breaks off, or that no probe gives, is an error. It ends with
// its context.
func ParseProbe(ctx context.Context, r io.Reader) (*Probed, error) {
	p := &Probed{files: map[string]*bytes.Buffer{}, links: map[string]string{}, denied: map[string]bool{},
		outputs: map[string]*bytes.Buffer{}, failed: map[string]string{}, late: map[estate.SectionName]string{},
		gone: map[string][]string{}}
	sc := bufio.NewScanner(r)
	sc.Buffer(nil, maxLine)
	begun, ended, strange := false, false, ""
	for n := 0; sc.Scan(); n++ {
		switch {
		case n%1024 == 0 && ctx.Err() != nil:
			return nil, ctx.Err()
		case n > maxLines:
			return nil, errors.New("its answer has more lines than a probe's")
		}
		name, text, ok := strings.Cut(sc.Text(), "\x00")
		switch {
		case sc.Text() == "":
		case !ok || name == "":
			if strange == "" {
				strange = sc.Text()
			}
		case name == "=probe":
			begun = true
		case name == "=end":
			ended = true
		case name == "=late" || name == "=cut":
			section, what, _ := strings.Cut(text, " ")
			p.late[estate.SectionName(section)] = what + " did not end in time and was ended"
			if name == "=cut" {
				p.late[estate.SectionName(section)] = "it has more of something than is told: " + what
			}
		case name == "=gone":
			if pid, file, _ := strings.Cut(text, " "); len(p.gone[pid]) <= maxGone {
				p.gone[pid] = append(p.gone[pid], file)
			}
		default:
			if err := p.add(name, text); err != nil {
				return nil, err
			}
		}
	}
	switch {
	case sc.Err() != nil:
		return nil, fmt.Errorf("reading its answer: %w", sc.Err())
	case !begun && strange != "":
		return nil, fmt.Errorf("%w: it says %.200q", errProbe, strange)
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
func (p *Probed) add(name, text string) error {
	of, rest := name[0], name[1:]
	if of == '/' {
		rest = name
	}
	path, file := strings.CutPrefix(rest, "/")
	switch {
	case len(rest) > maxName || strings.ContainsFunc(rest, unicode.IsControl) || strings.Count(rest, "/") > maxDepth:
		return fmt.Errorf("its answer is no probe's: it names %.80q", rest)
	case of == '/':
		return line(p.files, path, text)
	case of == '$':
		return line(p.outputs, rest, text)
	case of == '?':
		p.failed[rest] = text
	case of == '@' && file:
		p.links[path] = text
	case of == '!' && file:
		p.denied[path] = true
	case of == '+' && file:
		if p.names = append(p.names, path); len(p.names) > maxNames {
			return errors.New("its answer names more files than a probe's")
		}
	case of == '+':
		if command, ok := strings.CutPrefix(rest, "$"); ok && p.outputs[command] == nil { // it printed nothing
			p.outputs[command] = &bytes.Buffer{}
		}
	}
	return nil
}

// line adds a line to a file or an output.
func line(to map[string]*bytes.Buffer, name, text string) error {
	if to[name] == nil {
		to[name] = &bytes.Buffer{}
	}
	if to[name].Len()+len(text) > maxFile {
		return fmt.Errorf("its answer is no probe's: %.80q is longer than %d MiB", name, maxFile>>20)
	}
	to[name].WriteString(text + "\n")
	return nil
}

// Late implements prober.
func (p *Probed) Late(section estate.SectionName) string { return p.late[section] }

// Replaced implements prober.
func (p *Probed) Replaced() map[string][]string { return p.gone }

// index lists every name with the directories above it.
func (p *Probed) index() {
	seen := map[string]bool{}
	add := func(name string) {
		for ; name != "." && name != "/" && !seen[name]; name = path.Dir(name) {
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
	if said, ok := p.failed[name]; ok {
		return nil, failed(command, said, "it fails")
	}
	if b := p.outputs[name]; b != nil {
		return b.Bytes(), nil
	}
	return nil, fmt.Errorf("%s: %w", command[0], fs.ErrNotExist)
}

// asked is the name under which the probe tells of a command: its words, but for how it is to print, and for what it is
// told of.
func asked(command []string) string {
	var words []string
	for i := 0; i < len(command); i++ {
		if command[i] == "--" {
			break
		}
		if command[i] == "--qf" {
			i++
			continue
		}
		words = append(words, command[i])
	}
	return strings.Join(words, " ")
}
