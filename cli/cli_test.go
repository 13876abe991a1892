package cli

import (
	"bytes"
	"encoding/json"
	"encoding/xml"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"yareharbour/core/precheck"
)

// As a simulated estate this program is started again: then it is yare, and no test.
func TestMain(m *testing.M) {
	if len(os.Args) > 1 && (os.Args[1] == "sim" || os.Args[1] == "round") {
		os.Exit(Main(os.Args[1:], os.Stdout, os.Stderr))
	}
	code := m.Run()
	if shared.dir != "" {
		Main([]string{"--demo", "--state", shared.dir, "sim", "stop"}, io.Discard, io.Discard)
		os.RemoveAll(shared.dir)
	}
	os.Exit(code)
}

// shared is a demo estate that all tests here look at, and that none changes.
var shared struct {
	sync.Once
	dir string
}

func demoDir(t *testing.T) string {
	t.Helper()
	shared.Do(func() {
		dir, err := os.MkdirTemp("", "yare-cli-")
		if err != nil {
			t.Fatal(err)
		}
		shared.dir = dir
		if r := run("--demo", "--state", dir, "read"); r.code != 0 && r.code != exitUnread {
			t.Fatalf("%d: %s", r.code, r.err)
		}
	})
	return shared.dir
}

// result is what a command printed and how it ended.
type result struct {
	out, err string
	code     int
}

func run(args ...string) result {
	var out, errs bytes.Buffer
	code := Main(args, &out, &errs)
	return result{out.String(), errs.String(), code}
}

// on runs a command on the demo estate.
func on(t *testing.T, args ...string) result {
	t.Helper()
	return run(append([]string{"--demo", "--state", demoDir(t)}, args...)...)
}

// Each command that looks: how it ends, and some of what it says.
func TestCommandsThatLook(t *testing.T) {
	for _, c := range []struct {
		args string
		code int
		says []string
	}{
		{"read heron", 0, []string{"heron", "Brae Linux 4.2", "deb:brae-tls", "packages"}},
		{"check vts", exitDrift, []string{"deb:brae-tls", "behind", "critical", "13 adrift"}},
		{"check tides", exitUnread, []string{"unread on godwit: firmware: "}},
		{"check vts --narrow verdict=withdrawn", exitDrift, []string{"fw:lorne-l25 (slot 2)", "narrowed to"}},
		{"check lapwing", 0, []string{"0 adrift"}},
		{"explain jacana fw:lorne-l25", 0, []string{"withdrawn", "The baseline"}},
		{"plan tides --way avocet", 0, []string{"the same: yare plan tides --out-of-service 2", "yare plan tides --out-of-service 2 --hosts avocet"}},
		{"plan vts", 0, []string{"to carry out just this: yare round start vts --plan", "heron", "pass 2"}},
		{"catalogue list", 0, []string{"fw:tarbet-s9", "4.19.0 (4), 5.2.0 (5)"}},
		{"catalogue show fw:tarbet-s9", 0, []string{"4.19.0", "heron"}},
		{"baseline list", 0, []string{"platform-november", "hardware-2026q4"}},
		{"baseline show platform-november", 0, []string{"baseline: platform-november", "clauses:"}},
		{"baseline check " + filepath.Join("baselines", "platform.yaml"), 0, nil},
		{"feed list", 0, []string{"brae-mirror", "every 6h"}},
		{"bundle list", 0, nil},
		{"payload list", 0, nil},
		{"compare heron lapwing", 0, []string{"deb:brae-tls"}},
		{"trend vts", 0, []string{"PLATFORM"}},
		{"news vts", exitDrift, []string{"vts: 2 new since", "day shift"}},
		{"filter list", 0, nil},
		{"connect heron", 0, []string{"heron"}},
		{"report drift vts", 0, []string{"HOST", "heron"}},
		{"report life heron", 0, []string{"deb:qemu-system-x86"}},
		{"host prepare heron --print", 0, nil},
		{"version", 0, []string{"yare"}},
	} {
		args := strings.Fields(c.args)
		for i, a := range args {
			if strings.HasPrefix(a, "baselines"+string(filepath.Separator)) {
				args[i] = filepath.Join(demoDir(t), a)
			}
		}
		r := on(t, args...)
		if r.code != c.code {
			t.Errorf("%s: ends with %d, want %d: %s%s", c.args, r.code, c.code, r.out, r.err)
		}
		for _, w := range c.says {
			if !strings.Contains(r.out, w) {
				t.Errorf("%s does not say %q:\n%s", c.args, w, r.out)
			}
		}
	}
}

// What can be printed as JSON is JSON, with --json as with --format json, and says the same.
func TestJSONIsJSON(t *testing.T) {
	for _, args := range []string{"read heron", "check vts", "explain jacana fw:lorne-l25", "plan vts",
		"catalogue list", "catalogue show fw:tarbet-s9", "baseline list", "feed list", "bundle list",
		"payload list", "compare heron lapwing", "trend vts", "news vts", "filter list", "connect heron",
		"report drift vts", "report life heron"} {
		r := on(t, append(strings.Fields(args), "--json")...)
		if !json.Valid([]byte(r.out)) {
			t.Errorf("%s --json: %s%s", args, r.out, r.err)
		}
		if long := on(t, append(strings.Fields(args), "--format", "json")...); len(long.out) == 0 ||
			long.code != r.code {
			t.Errorf("%s: --format json ends with %d, --json with %d", args, long.code, r.code)
		}
	}
}

// What is a drawing is one, in a file of its own, whole.
func TestDrawingsGoToFiles(t *testing.T) {
	dir := t.TempDir()
	for _, args := range []string{"report drift", "plan vts", "trend vts", "catalogue show fw:tarbet-s9"} {
		for _, format := range []string{"svg", "pdf"} {
			file := filepath.Join(dir, strings.ReplaceAll(strings.Fields(args)[0], " ", "-")+"."+format)
			r := on(t, append(strings.Fields(args), "--format", format, "-o", file)...)
			b, err := os.ReadFile(file)
			if r.code != 0 || err != nil || r.out != "" {
				t.Fatalf("%s as %s: %d %s%s %v", args, format, r.code, r.out, r.err, err)
			}
			if format == "pdf" && !bytes.HasPrefix(b, []byte("%PDF")) ||
				format == "svg" && xml.Unmarshal(b, new(struct{})) != nil {
				t.Errorf("%s as %s begins with %.40q", args, format, b)
			}
		}
	}
	if r := on(t, "plan", "vts", "--format", "svg", "-o",
		filepath.Join(dir, "nowhere", "x.svg")); r.code != exitFailure ||
		!strings.Contains(r.err, "nowhere") {
		t.Errorf("%d %s", r.code, r.err)
	}
}

// What is wrong is said with what was wrong, where, and what there is; nothing is done.
func TestMistakesAreNamed(t *testing.T) {
	for args, says := range map[string]string{
		"chekc":                               "did you mean check?",
		"check hreon":                         "heron",
		"plan yrad":                           "yard",
		"plan tides --way godwit":             "a person must see to it",
		"plan vts --way heron":                "nothing keeps heron from being visited",
		"explain heron fw:corran":             "did you mean fw:corran-bios or fw:corran-bmc",
		"explain vts fw:corran-bmc":           "vts is a cluster",
		"plan vts --hosts avocet":             "the brief's hosts: vts has no host \"avocet\"",
		"plan vts --out-of-service 0":         "lets 0 hosts be out of service at once",
		"check vts --narrow colour=red":       "no field \"colour\"",
		"check --local vts":                   "--local or names, not both",
		"catalogue show fw:nowhere":           "no feed has a release of fw:nowhere",
		"catalogue show nowhere":              "nowhere",
		"plan vts --format gif":               "no \"gif\"",
		"round start vts --plan abcdef":       "abcdef",
		"round start yard --reason x":         "act: true",
		"round pause vts":                     "no round",
		"round watch tides":                   "no round",
		"report round vts":                    "no round",
		"baseline show nowhere":               "nowhere",
		"trend vts --since yesterday":         "--since",
		"filter keep a@b x":                   "can't be a filter's name",
		"filter keep bad colour=red":          "no field \"colour\"",
		"feed sync nowhere":                   "nowhere",
		"bundle show /nowhere/x.zip":          "/nowhere/x.zip",
		"payload prune":                       "rule",
		"demo --hosts 3":                      "--hosts takes a number from 16",
		"demo --hosts 40 --run":               "goes without --run",
		"--log loud check vts":                "--log",
		"--estate /nowhere.yaml check vts":    "/nowhere.yaml",
		"version compare none":                "none",
		"sim fault heron nothing-that-exists": "nothing-that-exists",
	} {
		r := on(t, strings.Fields(args)...)
		if r.code != exitFailure || !strings.Contains(r.err, says) {
			t.Errorf("%s: ends with %d, says %q, want %q", args, r.code, r.err+r.out, says)
		}
		if strings.Contains(r.err, "panic") || strings.Contains(r.err, "goroutine") {
			t.Errorf("%s: %s", args, r.err)
		}
	}
}

// Filters and what was seen are kept, and a kept filter means what it says.
func TestWhatIsKept(t *testing.T) {
	dir := t.TempDir()
	own := func(args ...string) result {
		return run(append([]string{"--estate", filepath.Join(demoDir(t), "estate.yaml"), "--state", dir}, args...)...)
	}
	for _, c := range []struct {
		args, says string
		code       int
	}{
		{"filter keep urgent severity=critical", "", 0},
		{"filter list", "@urgent  severity=critical", 0},
		{"check vts --narrow @urgent", "3 adrift", exitDrift},
		{"check vts --narrow @nobody", "", exitFailure},
		{"news vts", "nobody has looked yet", 0},
		{"news vts --seen", "nobody has looked yet", 0},
		{"news vts", "vts: 0 new since", 0},
		{"filter forget urgent", "", 0},
		{"filter list", "", 0},
	} {
		if r := own(strings.Fields(c.args)...); r.code != c.code || !strings.Contains(r.out, c.says) {
			t.Errorf("%s: %d %s%s", c.args, r.code, r.out, r.err)
		}
	}
}

// A question is answered with a yes or not at all; at the end of the input it is a no.
func TestQuestions(t *testing.T) {
	for in, want := range map[string]bool{"y\n": true, "yes\n": true, "Y\n": true, "n\n": false, "\n": false,
		"": false, "yep\n": false} {
		var errs bytes.Buffer
		a := &app{in: strings.NewReader(in), err: &errs, out: &errs}
		if got := a.confirm("Do it?"); got != want {
			t.Errorf("%q is taken for %v", in, got)
		}
		if !strings.Contains(errs.String(), "Do it?") {
			t.Errorf("%q: nothing was asked: %s", in, errs.String())
		}
	}
}

// Every check has its page, which asks what the check asks and says of waiving what the check says.
func TestEveryCheckHasItsPage(t *testing.T) {
	index, err := os.ReadFile(filepath.Join("..", "docs", "prechecks", "README.md"))
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range precheck.Checks {
		page, err := os.ReadFile(filepath.Join("..", "docs", "prechecks", c.Name+".md"))
		if err != nil {
			t.Error(err)
			continue
		}
		waives := "It can be waived"
		if c.Never != "" {
			waives = "must never be waived: " + c.Never
		}
		for _, want := range []string{"# " + c.Name, c.Asks, waives} {
			if !strings.Contains(string(page), want) {
				t.Errorf("the page of %s lacks %q", c.Name, want)
			}
		}
		if !strings.Contains(string(index), "["+c.Name+"]("+c.Name+".md)") {
			t.Errorf("%s is not in the index", c.Name)
		}
	}
}
