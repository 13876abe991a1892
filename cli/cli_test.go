package cli_test

import (
	"bytes"
	"encoding/json"
	"encoding/xml"
	"errors"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"

	"yareharbour/cli"
	"yareharbour/core/precheck"
	"yareharbour/sim/command"
)

// What commands end with, as their help says.
const (
	exitFailure = 1
	exitUsage   = 2
	exitDrift   = 3
	exitUnread  = 4
)

// As a simulated estate this program is started again: then it is yare, and no test.
func TestMain(m *testing.M) {
	if len(os.Args) > 1 && (os.Args[1] == "sim" || os.Args[1] == "round") {
		os.Exit(cli.Main(os.Args[1:], os.Stdout, os.Stderr, command.Estate()))
	}
	code := m.Run()
	if shared.dir != "" {
		cli.Main([]string{"--demo", "--state", shared.dir, "sim", "stop"}, io.Discard, io.Discard, command.Estate())
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
		if r := yare("--demo", "--state", dir, "read"); r.code != 0 && r.code != exitUnread {
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

func yare(args ...string) result {
	var out, errs bytes.Buffer
	code := cli.Main(args, &out, &errs, command.Estate())
	return result{out.String(), errs.String(), code}
}

// on runs a command on the demo estate.
func on(t *testing.T, args ...string) result {
	t.Helper()
	return yare(append([]string{"--demo", "--state", demoDir(t)}, args...)...)
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
		{"--version", 0, []string{"yare"}},
		{"check vts/lapwing", 0, []string{"0 adrift"}},
		{"compare vts/heron vts/lapwing", 0, []string{"deb:brae-tls"}},
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
		"payload list", "owed", "baseline log settings", "host log heron", "host prepare heron", "compare heron lapwing", "trend vts", "news vts", "filter list", "connect heron",
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
		filepath.Join(dir, "nowhere", "x.svg")); r.code != exitUsage ||
		!strings.Contains(r.err, "there is no directory") {
		t.Errorf("%d %s", r.code, r.err)
	}
}

// What is wrong is said with what was wrong, where, and what there is; nothing is done. A command line that means nothing
// ends with 2, and in words that are not a library's.
func TestMistakesAreNamed(t *testing.T) {
	for code, mistakes := range map[int]map[string]string{
		exitFailure: {
			"check hreon":                      "heron",
			"plan yrad":                        "yard",
			"plan tides --way godwit":          "a person must see to it",
			"plan vts --way heron":             "nothing keeps heron from being visited",
			"plan vts --narrow host=avocet":    "there is nothing to plan",
			"explain heron fw:corran":          "did you mean fw:corran-bios or fw:corran-bmc",
			"explain vts fw:corran-bmc":        "vts is a cluster",
			"explain tides/heron fw:x":         "heron is a host of vts, and not of tides",
			"plan vts --hosts avocet":          "the brief's hosts: vts has no host \"avocet\"",
			"plan vts --out-of-service 0":      "lets 0 hosts be out of service at once",
			"check vts --narrow colour=red":    "no field \"colour\"",
			"catalogue show fw:nowhere":        "no feed has a release of fw:nowhere",
			"catalogue show nowhere":           "nowhere",
			"round start vts --plan abcdef":    "abcdef",
			"round start yard --reason x":      "act: true",
			"round pause vts":                  "no round",
			"round watch tides":                "no round",
			"report round vts":                 "no round",
			"baseline show nowhere":            "nowhere",
			"filter keep a@b x":                "can't be a filter's name",
			"filter keep bad colour=red":       "no field \"colour\"",
			"filter forget nobody":             "no filter is kept as @nobody",
			"feed sync brae-miror":             "did you mean brae-mirror",
			"feed set corran-beta nowhen":      "no time to sync",
			"bundle show /nowhere/x.zip":       "/nowhere/x.zip",
			"--estate /nowhere.yaml check vts": "/nowhere.yaml",
			"version compare none":             "none",
		},
		exitUsage: {
			"chekc":                             "did you mean check?",
			"baseline lits":                     "did you mean list?",
			"check vts --narow x":               "has no option --narow; did you mean narrow?",
			"check -x":                          "has no option -x",
			"plan":                              "say CLUSTER[/HOST]",
			"plan vts tides":                    "\"tides\" is too many",
			"feed list vts":                     "takes no words",
			"plan vts --reserve x":              "--reserve: \"x\" is not a whole number",
			"plan vts --soak long":              "--soak: \"long\" is no time",
			"plan vts --order":                  "--order wants a value",
			"plan vts --order mine":             "there is no order \"mine\"; there are fewest-moves, least-time, lightest-first",
			"plan vts --format gif":             "there is no format \"gif\"",
			"check --local vts":                 "--local or names, not both",
			"host clear heron --reason x":       "say which tasks, or --all",
			"host close heron":                  "needs --reason",
			"waiver add heron health":           "needs --reason",
			"round settle vts heron --reason x": "--done or --not-done",
			"round start vts --plan abcdef --hosts heron": "say --plan or --hosts, not both",
			"trend vts --since yesterday":                 "--since",
			"payload prune":                               "rule",
			"demo --hosts 3":                              "--hosts takes a number from 16",
			"demo --hosts 40 --run":                       "goes without --run",
			"--log loud check vts":                        "--log",
			"sim fault heron nothing-that-exists":         "there is no fault \"nothing-that-exists\"",
		},
	} {
		for args, says := range mistakes {
			r := on(t, strings.Fields(args)...)
			if r.code != code || !strings.Contains(r.err, says) {
				t.Errorf("%s: ends with %d, says %q, want %d and %q", args, r.code, r.err+r.out, code, says)
			}
			for _, library := range []string{"panic", "goroutine", "strconv", "arg(s)", "flag", "invalid argument"} {
				if strings.Contains(r.err, library) {
					t.Errorf("%s: %s", args, r.err)
				}
			}
		}
	}
}

// An output file's ending chooses its form, unless the form is said; and every list can be had in every form.
func TestTheEndingChoosesTheForm(t *testing.T) {
	dir := t.TempDir()
	for _, c := range []struct{ args, file, begins string }{
		{"feed list", "f.csv", "feed,kind,sync"}, {"owed", "o.json", "[]"}, {"baseline list", "b.svg", "<?xml"},
		{"connect heron", "c.pdf", "%PDF"}, {"filter list", "f.txt", "no filter is kept"}, {"bundle list --json", "b.csv", "["},
		{"read heron", "r.csv", "host,component"}, {"host prepare heron --print", "p.sh", "# "}, {"baseline schema", "s.json", "{"},
		{"brief write vts --trial ibis", "b.yaml", "brief: vts"}, {"baseline start --as lapwing", "d.yaml", "baseline: like-lapwing"},
	} {
		file := filepath.Join(dir, c.file)
		r := on(t, append(strings.Fields(c.args), "-o", file)...)
		text, err := os.ReadFile(file)
		if err != nil || r.code != 0 || r.out != "" || !strings.HasPrefix(string(text), c.begins) {
			t.Errorf("%s: %d %s%s %v: %.60q", c.args, r.code, r.out, r.err, err, text)
		}
	}
	if r := on(t, "host", "prepare", "heron", "--print"); !strings.Contains(r.out, "#!/bin/sh\n") {
		t.Errorf("a program that does nothing: %.200q", r.out)
	}
}

// What can be completed is what there is, and nothing else.
func TestCompletion(t *testing.T) {
	if r := on(t, "filter", "keep", "mine", "severity=low"); r.code != 0 || r.out != "kept as @mine\n" {
		t.Fatalf("%+v", r)
	}
	defer on(t, "filter", "forget", "mine")
	for line, want := range map[string]string{
		"plan ": "vts", "plan vts/her": "vts/heron", "check ": "vts heron", "explain heron fw:": "fw:corran-bmc", "feed sync ": "brae-mirror",
		"feed sync brae-mirror brae": "brae-rpm", "filter forget ": "mine", "check vts --narrow @": "@mine", "waiver add heron hea": "health",
		"round drop vts ": "heron", "sim fault heron no-": "no-return", "baseline show plat": "platform-november", "plan vts --order ": "lightest-first",
		"check vts --format ": "csv", "precheck vts --check bm": "bmc", "version compare ": "rpm", "plan vts --only fw:": "fw:corran-bmc",
		"feed list ": "", "feed sync brae-mirror": "-", "round drop vts tid": "-", "plan vts tid": "-",
	} {
		words := strings.Split(line, " ")
		r := on(t, append([]string{"__complete"}, words...)...)
		got := slices.DeleteFunc(strings.Fields(r.out), func(w string) bool { // as a shell does
			return !strings.HasPrefix(w, words[len(words)-1]) || w[0] == ':'
		})
		for _, w := range strings.Fields(want) {
			if w == "-" {
				if len(got) > 0 && !(len(got) == 1 && got[0] == words[len(words)-1]) {
					t.Errorf("%q is completed with %v", line, got)
				}
			} else if !slices.Contains(got, w) {
				t.Errorf("%q is not completed with %s: %v", line, w, got)
			}
		}
		if want == "" && len(got) > 0 {
			t.Errorf("%q is completed with %v", line, got)
		}
	}
}

// Filters and what was seen are kept, and a kept filter means what it says.
func TestWhatIsKept(t *testing.T) {
	dir := t.TempDir()
	own := func(args ...string) result {
		return yare(append([]string{"--estate", filepath.Join(demoDir(t), "estate.yaml"), "--state", dir}, args...)...)
	}
	for _, c := range []struct {
		args, says string
		code       int
	}{
		{"filter keep urgent severity=critical", "kept as @urgent", 0},
		{"filter list", "@urgent  severity=critical", 0},
		{"check vts --narrow @urgent", "3 adrift", exitDrift},
		{"check vts --narrow @nobody", "", exitFailure},
		{"news vts", "nobody has looked yet", 0},
		{"news vts --seen", "nobody has looked yet", 0},
		{"news vts", "vts: 0 new since", 0},
		{"filter forget urgent", "is forgotten", 0},
		{"filter list", "", 0},
	} {
		if r := own(strings.Fields(c.args)...); r.code != c.code || !strings.Contains(r.out, c.says) {
			t.Errorf("%s: %d %s%s", c.args, r.code, r.out, r.err)
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

// Names are completed from the usual state directory too.
func TestCompletionWithoutAStateDirectory(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("XDG_STATE_HOME", dir)
	if err := errors.Join(os.Mkdir(filepath.Join(dir, "yare"), 0o700), os.Symlink(demoDir(t), filepath.Join(dir, "yare", "demo"))); err != nil {
		t.Fatal(err)
	}
	for _, words := range [][]string{{"round", "drop", "vts", "her"}, {"plan", "vts/her"}} {
		if r := yare(append([]string{"--demo", "__complete"}, words...)...); !strings.Contains(r.out, "heron") {
			t.Errorf("%v is completed with %q", words, r.out)
		}
	}
}

// While a baseline can't be read no command passes over it: a list has the others, says which is missing and fails.
func TestABaselineThatCannotBeRead(t *testing.T) {
	dir := t.TempDir()
	for name, text := range map[string]string{
		"estate.yaml": "estate: x\nconnector: {kind: sim, dir: sim}\nclusters: [{name: a, hosts: [h]}]\n" +
			"baselines: [baselines/good.yaml, baselines/bad.yaml]\n",
		"baselines/good.yaml": "baseline: good\nassign: [a]\nclauses:\n  - component: deb:x\n    posture: never\n",
		"baselines/bad.yaml":  "baseline: bad\nclausses: []\n",
	} {
		file := filepath.Join(dir, name)
		if err := errors.Join(os.MkdirAll(filepath.Dir(file), 0o700), os.WriteFile(file, []byte(text), 0o600)); err != nil {
			t.Fatal(err)
		}
	}
	for args, out := range map[string]string{"baseline list": "good", "check": "", "report drift": "", "plan a": "", "catalogue list": "",
		"payload prune --unknown": "", "news a": ""} {
		r := yare(append([]string{"--state", dir}, strings.Fields(args)...)...)
		if r.code != 1 || !strings.Contains(r.out, out) || out == "" && r.out != "" || !strings.Contains(r.err, "bad.yaml:2:1") {
			t.Errorf("%s: %+v", args, r)
		}
	}
	r := yare("--state", dir, "baseline", "list", "-o", dir)
	if want := "writing " + dir + ": "; r.code != 1 || !strings.Contains(r.err, want) || !strings.Contains(r.err, "bad.yaml:2:1") {
		t.Errorf("%d %q, want %q", r.code, r.err, want)
	}
}
