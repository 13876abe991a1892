package host

import (
	"strings"
	"testing"

	"yareharbour/connector"
	"yareharbour/core/act"
	"yareharbour/core/estate"
	"yareharbour/format/bounds/boundstest"
)

// What the programs on a host say is read in a time and a memory that do not depend on what it is, and names nothing
// that was not asked about as done.
func FuzzAnswers(f *testing.F) {
	f.Add("done 0\nSetting up keel", "")
	f.Add("Inst keel [1.0] (2.0 Lab [all])\nRemv buoy [1.0]\nhold keel\nE: no\nexit 0\nend", "")
	f.Add("comes keel 2.0\ngoes buoy 1.0\nback x 1\nwrong y\nexit 0\nend", "")
	f.Add("lacks flock\nhas /var/lib/yare/probe 1234\nhome\nmark round R\nmeets h2\nadmits h3\nend", "")
	f.Add("unix 0000: 00000002 00000000 00010000 0001 01 1234 /run/libvirt/libvirt-sock", "")
	f.Fuzz(func(t *testing.T, text, log string) {
		boundstest.Within(t, len(text)+len(log), func() {
			if tr, err := traced(text + "\n" + log); err == nil && tr.State == act.Ended && !strings.HasPrefix(text, "done 0") {
				t.Errorf("%q has ended", text)
			}
			asked := []connector.Wanted{{Change: act.Change{Component: "deb:keel", To: "2.0"}}}
			if r := resolved(text, asked); r.Unasked == "" && !strings.Contains(text, "end") {
				t.Errorf("%q is whole", text)
			}
			asked[0].Component = "rpm:keel"
			if r := rpmResolved(text, asked); r.Unasked == "" && !strings.Contains(text, "end") {
				t.Errorf("%q is whole", text)
			}
			fo := found{has: map[string]bool{}}
			fo.read(text)
			for path, whole := range fo.has {
				if whole && !strings.Contains(text, path) {
					t.Errorf("%q has %s", text, path)
				}
			}
			listening(text)
			settle(&estate.Reading{Guests: []estate.Guest{{Name: "g"}}}, text)
		})
	})
}
