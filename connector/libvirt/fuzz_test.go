package libvirt

import (
	"strings"
	"testing"

	"yareharbour/format/bounds/boundstest"
)

// What a libvirt says of guests, which their owners have a hand in, and of itself is read within bounds.
func FuzzDescription(f *testing.F) {
	f.Add(`<domain type='kvm'><name>g</name><uuid>5e1f</uuid><memory unit='KiB'>1024</memory><vcpu>1</vcpu><devices>` +
		`<disk type='file' device='cdrom'><source file='/x'/></disk><hostdev/></devices><metadata/></domain>`)
	f.Add(`<capabilities><guest><arch name='x86_64'><machine canonical='pc-1'>pc</machine></arch></guest></capabilities>`)
	f.Add(window)
	f.Add("<domain><uuid>x</uuid><memory unit='EiB'>99999999999999999999</memory></domain>")
	f.Add(strings.Repeat("<a>", 100))
	f.Fuzz(func(t *testing.T, text string) {
		boundstest.Within(t, len(text), func() {
			if x, err := describe(text); err == nil {
				if g := x.guest(); g.ID == "" || g.Load.MemoryMiB < 0 {
					t.Errorf("%+v", g)
				}
				x.needs()
			}
			_, _ = machines(text)
			_, _ = models("kvm", text)
		})
	})
}

func TestADescriptionThatExhausts(t *testing.T) {
	for _, text := range []string{strings.Repeat("<devices>", 1<<20), "<domain " + strings.Repeat("a='b' ", 1<<19) + "/>",
		"<domain>" + strings.Repeat("<disk/>", 5<<20)} {
		if _, err := describe(text); err == nil {
			t.Errorf("%.20s… of %d bytes is a guest", text, len(text))
		}
	}
}
