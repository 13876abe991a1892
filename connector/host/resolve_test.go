package host

import (
	"reflect"
	"strings"
	"testing"

	"yareharbour/connector"
	"yareharbour/core/act"
	"yareharbour/core/estate"
)

// What apt prints is taken as it is meant: what comes along, what would go, what it refuses. An answer that is cut
// short says nothing.
func TestWhatAptSays(t *testing.T) {
	changes := []connector.Wanted{{Change: act.Change{Component: "deb:fender", From: "1.0", To: "2.0"}},
		{Change: act.Change{Component: "deb:old", From: "3"}}}
	for name, c := range map[string]struct {
		says string
		want act.Resolution
	}{
		"as asked": {"Inst fender [1.0] (2.0 local [all])\nConf fender (2.0 local [all])\nRemv old [3]\n" +
			"exit 0\nend\n", act.Resolution{}},
		"more comes along": {"Inst buoy (1.0 Lab:1 [all]) []\nInst tide [4] (5-1 Lab:1 [amd64])\n" +
			"Inst fender [1.0] (2.0 x [all])\nexit 0\nend\n",
			act.Resolution{Along: []act.Along{{Component: "deb:buoy", To: "1.0"},
				{Component: "deb:tide", From: "4", To: "5-1"}}}},
		"of another machine": {"Inst tide:i386 [4] (5 Lab:1 [i386])\nexit 0\nend\n",
			act.Resolution{Along: []act.Along{{Component: "deb:tide", From: "4", To: "5"}}}},
		"something would go": {"Remv keel [1.0]\nInst fender [1.0] (2.0 x [all])\nexit 0\nend\n",
			act.Resolution{Removes: []estate.Key{"deb:keel"}}},
		"another version": {"Inst fender [1.0] (2.1 x [all])\nexit 0\nend\n",
			act.Resolution{Refused: "it would bring fender 2.1 instead of 2.0"}},
		"it is held": {"hold fender\nhold other\nexit 0\nend\n",
			act.Resolution{Refused: "fender is held on it (apt-mark hold)"}},
		"it refuses": {"The following packages have unmet dependencies:\n" +
			" fender : Depends: buoy but it is not installable\nE: Unable to correct problems\nexit 100\nend\n",
			act.Resolution{Refused: "fender : Depends: buoy but it is not installable; Unable to correct problems"}},
		"without a word": {"exit 1\nend\n", act.Resolution{Refused: "apt-get ended with the exit status 1"}},
		"no apt":         {"none this host has no apt\nend\n", act.Resolution{Unasked: "this host has no apt"}},
		"cut short": {"Inst fender [1.0] (2.0 x [all])\nexit 0\n",
			act.Resolution{Unasked: "its answer was cut short"}},
		"nothing": {"", act.Resolution{Unasked: "its answer was cut short"}},
	} {
		if got := resolved(c.says, changes); !reflect.DeepEqual(got, c.want) {
			t.Errorf("%s: %+v, want %+v", name, got, c.want)
		}
	}
}

// Names and versions that would break out of the script stay words.
func TestAQuestionIsNoCommand(t *testing.T) {
	script, err := resolution([]connector.Wanted{{Change: act.Change{Component: "deb:a'; reboot; '", To: "1$(reboot)"}},
		{Change: act.Change{Component: "deb:b", To: "2"}, Control: func() ([]byte, error) {
			return []byte("Package: b\nE\nreboot\n"), nil
		}}})
	if err != nil {
		t.Fatal(err)
	}
	for line := range strings.Lines(script) {
		if strings.TrimSpace(line) == "reboot" {
			t.Errorf("a command came in:\n%s", script)
		}
	}
	if !strings.Contains(script, `'a'\''; reboot; '\''=1$(reboot)'`) {
		t.Errorf("it is not quoted:\n%s", script)
	}
}
