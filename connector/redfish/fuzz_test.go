package redfish

import (
	"context"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"yareharbour/core/estate"
	"yareharbour/format/bounds/boundstest"
)

// answering gives the same text for whatever is asked of it.
type answering string

func (a answering) RoundTrip(*http.Request) (*http.Response, error) {
	return &http.Response{StatusCode: http.StatusOK, Status: "200 OK", Header: http.Header{"Content-Type": {"application/json"}},
		Body: io.NopCloser(strings.NewReader(string(a)))}, nil
}

// A BMC whose every resource is the same odd thing, perhaps leading back to itself, is read within its time and within
// bounds, and no section of it is read that was not.
func FuzzService(f *testing.F) {
	f.Add(`{"Members@odata.nextLink": "/redfish/v1/", "Members": [{"@odata.id": "/redfish/v1/"}], "Members@odata.count": 9,
		"Chassis": {"@odata.id": "/redfish/v1/"}, "Systems": {"@odata.id": "/redfish/v1/"}, "Managers": {"@odata.id": "/redfish/v1/"},
		"UpdateService": {"@odata.id": "/redfish/v1/"}, "FirmwareInventory": {"@odata.id": "/redfish/v1/"}, "Tasks": {"@odata.id": "/redfish/v1/"},
		"SessionService": {"@odata.id": "/redfish/v1/"}, "Id": "x", "Version": "1", "Status": {"Health": "OK", "State": "Enabled"}}`)
	f.Add(strings.Repeat(`{"Members":[`, 200))
	f.Fuzz(func(t *testing.T, text string) {
		c := New("heron", Target{At: "bmc.merrow.invalid", User: "watch"}, "tide9")
		c.http.Transport = answering(text)
		ctx, cancel := context.WithTimeout(t.Context(), 300*time.Millisecond)
		defer cancel()
		boundstest.Within(t, len(text)*1000, func() {
			r := &estate.Reading{Host: "heron"}
			for _, s := range []estate.SectionName{estate.HealthItems, estate.BMCState, estate.FirmwareItems} {
				_, _ = c.ReadSection(ctx, s, r)
			}
		})
	})
}
