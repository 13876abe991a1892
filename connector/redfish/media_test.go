package redfish

import (
	"encoding/json"
	"net/http"
	"slices"
	"strings"
	"testing"

	"yareharbour/connector"
	"yareharbour/core/act"
	"yareharbour/core/estate"
)

// withDrives gives the stranger two virtual drives, one of them for CDs, that are changed in place and not by actions, and
// has it take no change of what was not seen as it is.
func withDrives(s *stranger) {
	left := s.docs["/box/nodes/left"]
	s.docs["/box/nodes/left"] = strings.TrimSuffix(left, "}") + `,"VirtualMedia":{"@odata.id":"/box/vm"},
"Boot":{"BootSourceOverrideEnabled":"Disabled","BootSourceOverrideTarget":"Cd"}}`
	s.docs["/box/vm"] = `{"Members":[{"@odata.id":"/box/vm/stick"},{"@odata.id":"/box/vm/cd"}]}`
	s.docs["/box/vm/stick"] = `{"MediaTypes":["USBStick"],"Inserted":false}`
	s.docs["/box/vm/cd"] = `{"MediaTypes":["CD","DVD"],"Image":"","Inserted":false}`
	for _, at := range []string{"/box/nodes/left", "/box/vm/cd"} {
		s.how[at] = func(w http.ResponseWriter, r *http.Request) {
			var doc, change map[string]any
			_ = json.Unmarshal([]byte(s.docs[at]), &doc)
			w.Header().Set("ETag", `"`+at+`"`)
			if r.Method == http.MethodGet {
				_, _ = w.Write([]byte(s.docs[at]))
				return
			}
			if r.Method != http.MethodPatch || r.Header.Get("If-Match") != `"`+at+`"` {
				w.WriteHeader(http.StatusPreconditionRequired)
				return
			}
			_ = json.NewDecoder(r.Body).Decode(&change)
			for k, v := range change {
				if k == "Image" && v == nil {
					v = ""
				}
				doc[k] = v
			}
			text, _ := json.Marshal(doc)
			s.docs[at] = string(text)
			w.WriteHeader(http.StatusNoContent)
		}
	}
}

// A stranger's drives are found and changed in the stranger's own way; one that is taken is left alone.
func TestAnImageGoesIntoAStrangersDrive(t *testing.T) {
	s := newStranger()
	c, _ := s.serve(t, "word")
	const url = "https://192.0.2.10:8443/t/x.iso"
	o := connector.Order{Act: act.Act{Kind: act.Mount, Host: "heron", URL: url}}
	if err := c.Mount(t.Context(), o); err == nil || !strings.Contains(err.Error(), "no virtual drive") {
		t.Errorf("without a drive: %v", err)
	}
	withDrives(s)
	reads := func(drives int, once string, media ...string) {
		t.Helper()
		r := &estate.Reading{}
		if _, err := c.ReadSection(t.Context(), estate.BMCState, r); err != nil || r.BMC.Drives != drives || r.BMC.BootOnce != once ||
			!slices.Equal(r.BMC.Media, media) {
			t.Errorf("%+v %v", r.BMC, err)
		}
	}
	reads(1, "")
	for range 2 {
		if err := c.Mount(t.Context(), o); err != nil {
			t.Fatal(err)
		}
		reads(1, "Cd", url)
	}
	other := o
	other.URL = "https://192.0.2.10:8443/t/y.iso"
	if err := c.Mount(t.Context(), other); err == nil || !strings.Contains(err.Error(), "not ours to take out") {
		t.Errorf("a drive that is taken: %v", err)
	}
	if err := c.Unmount(t.Context(), other); err != nil {
		t.Fatal(err)
	}
	reads(1, "", url) // another image is let be, and the host starts as usual all the same
	for range 2 {
		if err := c.Unmount(t.Context(), o); err != nil {
			t.Fatal(err)
		}
		reads(1, "")
	}
	lapsed := o
	lapsed.Held = func() error { return connector.ErrLapsed }
	if err := c.Mount(t.Context(), lapsed); err == nil {
		t.Error("it was told by whoever has lost the lease")
	}
	reads(1, "")
}
