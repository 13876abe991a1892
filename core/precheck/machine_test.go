package precheck

import (
	"strings"
	"testing"

	"yareharbour/core/estate"
)

// One machine under two names is proven by its boot id alone: nothing is planned over it, it counts once, and its guests
// do not run twice. A serial number that two share is a caution, and one that nobody gave them is none.
func TestOneMachineUnderTwoNames(t *testing.T) {
	f := facts()
	if a := answerOf(f, "machine"); a.Level != Clear {
		t.Errorf("%+v", a)
	}
	f.Readings["c"].BootID = f.Readings["b"].BootID
	f.Readings["c"].Guests = f.Readings["b"].Guests
	f.Readings["b"].Guests[0].ID = "5e1f"
	if a := answerOf(f, "machine"); !a.Blocks() || a.Never == "" || !strings.Contains(a.Evidence, "b and c are one machine") {
		t.Errorf("a host that has to be emptied beside such a pair: %+v", a)
	}
	f.Empties = false
	if a := answerOf(f, "machine"); a.Level != Clear {
		t.Errorf("one that has not: %+v", a)
	}
	for _, h := range []string{"b", "c"} {
		if a := Host(f, h)[at("machine")]; !a.Blocks() {
			t.Errorf("%s itself: %+v", h, a)
		}
	}
	if hosts := FitHosts(f.Hosts, f.Readings); len(hosts) != 2 || hosts[1].Name != "b" {
		t.Errorf("it counts twice: %+v", hosts)
	}
	if twice := Twice(f.Hosts, f.Readings); len(twice) != 0 {
		t.Errorf("its guests run twice: %+v", twice)
	}
	f.Readings["c"].SetSection(estate.Section{Name: estate.Host, At: now, Err: "no route"})
	if c := Copies(f.Hosts, f.Readings); len(c) != 0 {
		t.Errorf("what was last known of a silent host proves it: %v", c)
	}
	f = facts()
	f.Readings["a"].BootID, f.Readings["b"].BootID = "", ""
	if a := answerOf(f, "machine"); a.Level != Caution || !a.Unknown {
		t.Errorf("no boot id: %+v", a)
	}
	for serial, level := range map[string]Level{"KX41": Caution, " KX41 ": Caution, "": Clear, "0": Clear, "00000000": Clear,
		"Default string": Clear, "To be filled by O.E.M.": Clear, " None": Clear} {
		f := facts()
		f.Readings["a"].Hardware.Serial, f.Readings["c"].Hardware.Serial = serial, strings.TrimSpace(serial)
		if a := answerOf(f, "machine"); a.Level != level || level == Caution && !strings.Contains(a.Evidence, "serial number of c") {
			t.Errorf("%q: %+v", serial, a)
		}
	}
}

// at is where a check's answer stands among those of a host.
func at(check string) int {
	for i := range Checks {
		if Checks[i].Name == check {
			return i
		}
	}
	return -1
}

// Two installations that are copies of each other are a caution, and both grounds are told.
func TestCopiesOfOneInstallation(t *testing.T) {
	f := facts()
	f.Readings["a"].Machine, f.Readings["b"].Machine = "77", "77"
	f.Readings["a"].Hardware.Serial, f.Readings["c"].Hardware.Serial = "KX41", "KX41"
	if a := answerOf(f, "machine"); a.Level != Caution || !strings.Contains(a.Evidence, "the serial number of c; it has the machine id of b") {
		t.Errorf("%+v", a)
	}
}

// A guest that is off has its name on its host: none that is called the same is sent there.
func TestANameThatIsTaken(t *testing.T) {
	f := facts()
	f.Reserve = 0
	f.Readings["a"].Guests[0].ID = "1"
	for _, h := range []string{"b", "c"} {
		f.Readings[h].Guests = append(f.Readings[h].Guests, estate.Guest{Name: "g-a", ID: "2" + h, State: estate.Off})
	}
	if a := answerOf(f, RoomCheck); !a.Blocks() || !strings.Contains(a.Evidence, "g-a finds on every other open host") {
		t.Errorf("%+v", a)
	}
	f.Readings["c"].Guests[1].ID = "1" // it is the guest itself
	if a := answerOf(f, RoomCheck); a.Level != Clear {
		t.Errorf("%+v", a)
	}
}
