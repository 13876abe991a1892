package brieffile

import (
	"bytes"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/santhosh-tekuri/jsonschema/v6"

	"yareharbour/core/act"
	"yareharbour/core/brief"
	"yareharbour/core/estate"
	"yareharbour/core/plan"
)

var usual = plan.DefaultBrief(estate.Cluster{Name: "vts", Reserve: 1})

// full is a brief in which everything is said.
func full() plan.Brief {
	at := time.Date(2026, 11, 22, 22, 0, 0, 0, time.UTC)
	b := usual
	b.Reason, b.Hosts, b.Order, b.Sequence = "November: it's time", []string{"heron", "ibis"},
		plan.LightestFirst, []string{"ibis"}
	b.Except, b.SendNone = []string{"knot"}, []string{"lapwing", "jacana"}
	b.Rehearse, b.Home, b.Leaves = 720*time.Hour, true, 1
	b.Trial, b.Soak, b.Out, b.Reserve, b.Moves, b.Bandwidth, b.Limit = "ibis", 90*time.Minute, 2, 0, 4, 400, 0.85
	b.Lift, b.Only = []string{"keep traffic-db-* apart"}, []plan.Scope{"deb:brae-tls", "fw:corran-bmc"}
	b.Releases = map[estate.Key]string{"deb:brae-tls": "1.9", "fw:corran-bmc": "14.5"}
	b.Guests = []plan.Policy{{Guests: []string{"gauge-*", "replay"}, Do: plan.DoShutDown},
		{Guests: []string{"met-feed"}, Do: plan.DoSuspend}, {Guests: []string{"cctv"}, Do: plan.DoEject},
		{Guests: []string{"radar-*"}, Do: plan.DoLeave}, {Guests: []string{"#batch"}, Do: plan.DoCold}}
	b.Windows = []plan.Window{{From: at, To: at.Add(6 * time.Hour)},
		{From: at.Add(24 * time.Hour), To: at.Add(30 * time.Hour)}}
	b.Patience = 5 * time.Minute
	b.Converge = plan.LeaveIt
	b.Snapshots = []plan.Safety{{Guests: []string{"traffic-db-1", "#batch"}, For: 14 * 24 * time.Hour}}
	b.ClearTasks = 48 * time.Hour
	b.Temporary = []act.Lent{{Unit: "chrony.service"}, {Unit: "tftpd.service", Starts: true}, {Setting: "vm.swappiness", To: "1"}}
	b.Hooks = []act.Hook{{Before: true, Of: "visit", OnHost: true, Program: "/opt/site/pause", Args: []string{"one", "two"},
		Within: 2 * time.Minute, GoOn: []int{0, 3}, Wait: []int{75}, Repeats: true},
		{Of: "round", Program: "/opt/site/told", Args: []string{}, Within: time.Minute, GoOn: []int{0}}}
	return b
}

func TestABriefIsReadAsItWasWritten(t *testing.T) {
	for _, b := range []plan.Brief{usual, full()} {
		text, err := Write(b, usual)
		if err != nil {
			t.Fatal(err)
		}
		got, err := Parse("b.yaml", text, usual, time.UTC)
		if err != nil {
			t.Fatalf("%v\n%s", err, text)
		}
		if !reflect.DeepEqual(got, b) {
			t.Errorf("%+v\n%+v\n%s", got, b, text)
		}
		if c, err := Cluster("b.yaml", text); c != "vts" || err != nil {
			t.Error(c, err)
		}
		admits(t, text, true)
	}
	if text, _ := Write(usual, usual); string(text) != "brief: vts\n" {
		t.Errorf("what is usual is written: %s", text)
	}
}

func admits(t *testing.T, text []byte, want bool) {
	t.Helper()
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(Schema()))
	if err != nil {
		t.Fatal(err)
	}
	c := jsonschema.NewCompiler()
	if err := c.AddResource("brief", doc); err != nil {
		t.Fatal(err)
	}
	s, err := c.Compile("brief")
	if err != nil {
		t.Fatal(err)
	}
	b, err := yaml.YAMLToJSON(text)
	if err != nil {
		t.Fatal(err)
	}
	v, err := jsonschema.UnmarshalJSON(bytes.NewReader(b))
	if err != nil {
		t.Fatal(err)
	}
	if err := s.Validate(v); (err == nil) != want {
		t.Errorf("the schema: %v\n%s", err, text)
	}
}

// Every field of a brief is a setting, but for those that no person sets, and full says all of them.
func TestEveryFieldIsASetting(t *testing.T) {
	b, own := full(), []string{"Cluster", "By", "Reason", "Adopts", "Hand", "Staging"}
	blank := usual
	for _, s := range brief.Settings {
		if len(s.Words(b, usual)) == 0 {
			t.Errorf("full does not say %s", s.Name)
		}
		if _, err := s.Lay(&blank, s.Words(b, usual), time.UTC); err != nil {
			t.Errorf("%s: %v", s.Name, err)
		}
		if s.Help == "" || brief.Named(s.Name) != s || types[s.Kind] == nil {
			t.Errorf("%s is not whole", s.Name)
		}
	}
	v, w := reflect.ValueOf(b), reflect.ValueOf(blank)
	for i := range v.NumField() {
		name := v.Type().Field(i).Name
		if slices.Contains(own, name) {
			continue
		}
		if reflect.DeepEqual(v.Field(i).Interface(), reflect.ValueOf(usual).Field(i).Interface()) {
			t.Errorf("full leaves %s as usual", name)
		}
		if !reflect.DeepEqual(v.Field(i).Interface(), w.Field(i).Interface()) {
			t.Errorf("the settings make %s %v of %v", name, w.Field(i), v.Field(i))
		}
	}
}

func TestWhatABriefFileMayNotSay(t *testing.T) {
	for text, want := range map[string]string{
		"hosts: [a]":                                               `for "", and "vts" is meant`,
		"brief: tides":                                             `for "tides", and "vts" is meant`,
		"brief: vts\norder: heaviest":                              `b.yaml:2:8: there is no order "heaviest"; there are fewest-moves, least-time, lightest-first`,
		"brief: vts\nlimit: 0":                                     "a limit of 0 %",
		"brief: vts\nlimit: 101":                                   "1 to 100 is wanted",
		"brief: vts\nsoak: long":                                   `"long" is no time`,
		"brief: vts\npatience: -3m":                                `"-3m" is no time`,
		"brief: vts\nonly: [brae-tls]":                             "brae-tls",
		"brief: vts\nreleases: {brae: 1}":                          `"brae=1" is no component`,
		"brief: vts\nwindows: [tonight]":                           `"tonight" is no window`,
		"brief: vts\nwindows: [22:00/23:00]":                       `"22:00" is no time`,
		"brief: vts\nguests: [{guests: [a], do: kill}]":            `"a=kill" is not guest=shut-down`,
		"brief: vts\nwindow: []":                                   "window",
		"brief: vts\nwindows: [2026-11-22T22:00/2026-11-22T21:00]": "ends before it begins",
		"brief: vts\nout_of_service: two":                          "a whole number is expected",
	} {
		_, err := Parse("b.yaml", []byte(text+"\n"), usual, time.UTC)
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want %q", text, err, want)
		}
	}
	if _, err := Cluster("b.yaml", []byte("hosts: [a]\n")); err == nil ||
		!strings.Contains(err.Error(), "names no cluster") {
		t.Error(err)
	}
}

// A window without an offset is one of the zone in which the command is given.
func TestAWindowsZone(t *testing.T) {
	zone := time.FixedZone("", 2*3600)
	b := usual
	_, err := brief.Named("window").Lay(&b, []string{"2026-11-22T22:00/2026-11-23T04:00:00Z"}, zone)
	if err != nil || b.Windows[0].To.Sub(b.Windows[0].From) != 8*time.Hour {
		t.Errorf("%+v %v", b.Windows, err)
	}
}

func TestWords(t *testing.T) {
	if w := brief.Words(usual, usual); len(w) != 0 {
		t.Errorf("%v", w)
	}
	const want = "--hosts heron,ibis --except knot --send-none lapwing,jacana --order lightest-first --sequence ibis --trial ibis --soak 1h30m --rehearse " +
		"720h --out-of-service 2 --leave-failed 1 --reserve 0 --moves 4 --bandwidth 400 --converge leave --home --limit 85 " +
		"--lift 'keep traffic-db-* apart' --only deb:brae-tls,fw:corran-bmc --release deb:brae-tls=1.9 --release " +
		"fw:corran-bmc=14.5 --guest 'gauge-*,replay=shut-down' --guest met-feed=suspend --guest cctv=eject --guest " +
		"'radar-*=leave' --guest '#batch=cold' --snapshot 'traffic-db-1,#batch=336h' " +
		"--window 2026-11-22T22:00:00Z/2026-11-23T04:00:00Z --window " +
		"2026-11-23T22:00:00Z/2026-11-24T04:00:00Z --hook 'before visit on host within 2m go-on 0,3 wait 75 repeatable: " +
		"/opt/site/pause one two' --hook 'after round: /opt/site/told' --clear-tasks 48h --temporary 'stop chrony.service' --temporary 'start tftpd.service' " +
		"--temporary 'set vm.swappiness=1' --patience 5m"
	if got := strings.Join(brief.Words(full(), usual), " "); got != want {
		t.Errorf("%s\n%s", got, want)
	}
}

// Some thousand briefs a second are tried with -fuzzminimizetime 1x; without it most of the time goes into making each
// interesting one smaller.
func FuzzParse(f *testing.F) {
	text, _ := Write(full(), usual)
	f.Add(text)
	f.Fuzz(func(t *testing.T, text []byte) {
		b, err := Parse("b.yaml", text, usual, time.UTC)
		if err != nil {
			return
		}
		again, err := Write(b, usual)
		if err != nil {
			t.Fatal(err)
		}
		c, err := Parse("b.yaml", again, usual, time.UTC)
		if err != nil {
			t.Fatalf("what was written can't be read: %v\n%s", err, again)
		}
		if x, y := brief.Words(b, usual), brief.Words(c, usual); !reflect.DeepEqual(x, y) {
			t.Fatalf("%v\n%v", x, y)
		}
	})
}
