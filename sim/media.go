package sim

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"time"

	"yareharbour/connector"
	"yareharbour/core/estate"
	"yareharbour/images"
)

// Image is what an image of the simulated estate holds: what it brings to a host that starts from it, how long that takes,
// and, where whoever served it has filled that in, to whom it tells how far it is.
type Image struct {
	Brings []Payload     `json:"brings"`
	Takes  time.Duration `json:"takes"`
	Report string        `json:"report,omitempty"`
}

// ParseImage reads an image. What is filled in as it is served stands behind the blank of its report.
func ParseImage(body []byte) (*Image, error) {
	var i Image
	if err := json.Unmarshal(body, &i); err != nil || len(i.Brings) == 0 {
		return nil, errors.New("not an image of the simulated estate")
	}
	i.Report = strings.TrimSpace(strings.TrimPrefix(i.Report, images.Mark))
	return &i, nil
}

// Media is the virtual drive of a host's BMC, and what the host starts from next.
type Media struct {
	URL   string `json:"url,omitempty"`
	Image *Image `json:"image,omitempty"`
	Once  string `json:"once,omitempty"` // BootSourceOverrideTarget, where that is enabled once
	Runs  *Image `json:"runs,omitempty"` // the host has started from it
}

// Told is what an image tells of how far it is.
type Told struct {
	URL     string `json:"-"`
	Percent int    `json:"percent"`
	Says    string `json:"says"`
}

// post tells it, on loopback only; whether anybody listens does not matter.
func (t Told) post() {
	u, err := url.Parse(t.URL)
	if err != nil || !loopback(u) {
		return
	}
	body, _ := json.Marshal(t) // our own value
	resp, err := client.Post(t.URL, "application/json", bytes.NewReader(body))
	if err == nil {
		resp.Body.Close()
	}
}

// Insert puts an image into the drive of a host's BMC.
func (w *World) Insert(host, url string, i *Image) error {
	h, err := w.Controller(host)
	switch {
	case err != nil:
		return err
	case w.strikes(host, MediaAway):
		return errors.New("the image can't be fetched: its address does not answer")
	case h.Media.URL != "":
		return errors.New("the drive holds a medium")
	}
	h.Media.URL, h.Media.Image = url, i
	w.act("insert an image at the BMC of %s", host)
	if w.strikes(host, DropsMedia) { // it is gone as soon as it was taken
		h.Media.URL, h.Media.Image = "", nil
	}
	return nil
}

// Eject takes out what is in the drive of a host's BMC.
func (w *World) Eject(host string) {
	m := &w.Hosts[host].Media
	m.URL, m.Image = "", nil
	w.act("eject the image at the BMC of %s", host)
}

// starts has the host start from what its BMC says: it is away for so much longer.
func (h *Host) starts(w *World) (longer time.Duration) {
	m := &h.Media
	if m.Once == "" {
		return 0
	}
	m.Once = ""
	if m.Image == nil || w.strikes(h.Name, ForgetsBoot) {
		return 0
	}
	m.Runs, longer = m.Image, m.Image.Takes
	if w.strikes(h.Name, BootsTwice) {
		longer *= 2
	}
	w.begin(Task{Kind: "report", Host: h.Name, Task: connector.Task{Says: "writes " + string(m.Image.Brings[0].Component)}}, longer/2)
	w.act("start %s from %s", h.Name, m.URL[strings.LastIndex(m.URL, "/")+1:])
	return longer
}

// ran brings what the image that the host ran brings.
func (h *Host) ran(w *World) {
	i := h.Media.Runs
	h.Media.Runs = nil
	if i == nil || w.strikes(h.Name, ImageFails) {
		return
	}
	for _, p := range i.Brings {
		for _, c := range firmware(h) {
			if c.Key == p.Component && (len(p.Hardware) == 0 || estate.HasModel(p.Hardware, c.Model)) {
				h.apply(Payload{Component: p.Component, Version: p.Version}, c.Device)
			}
		}
	}
}

const mediaAt = "/Managers/bmc/VirtualMedia"

func (b *bmc) virtualMedia(h *Host, _ *http.Request) (int, any) {
	inserted := h.Media.URL != ""
	d := resource(mediaAt+"/1", "#VirtualMedia.v1_6_3.VirtualMedia", "1", "Virtual CD", doc{
		"MediaTypes": []string{"CD", "DVD"}, "Inserted": inserted, "WriteProtected": true, "Image": nil, "ConnectedVia": "NotConnected",
		"Actions": doc{"#VirtualMedia.InsertMedia": doc{"target": root + mediaAt + "/1/Actions/VirtualMedia.InsertMedia"},
			"#VirtualMedia.EjectMedia": doc{"target": root + mediaAt + "/1/Actions/VirtualMedia.EjectMedia"}}})
	if inserted {
		d["Image"], d["ConnectedVia"] = h.Media.URL, "URI"
	}
	return 200, d
}

// insertMedia fetches the image itself, from loopback only: a simulated BMC has no network.
func (b *bmc) insertMedia(_ *Host, r *http.Request) (int, any) {
	var body struct{ Image string }
	if err := json.NewDecoder(r.Body).Decode(&body); err != nil {
		return 400, fault{error: err, id: "MalformedJSON"}
	}
	return 0, func() answer {
		text, err := fetch(body.Image)
		return func(h *Host) (int, any) {
			if err != nil {
				return 400, fault{error: fmt.Errorf("Image: %w", err), id: "ResourceAtUriUnauthorized"}
			}
			image, err := ParseImage(text)
			if err != nil && b.sim.power == nil {
				return 400, fault{error: err, id: "ActionParameterValueError"}
			}
			if err := b.sim.world.Insert(h.Name, body.Image, image); err != nil {
				return 400, fault{error: err, id: "PropertyValueConflict"}
			}
			return 204, nil
		}
	}
}

func (b *bmc) ejectMedia(h *Host, _ *http.Request) (int, any) {
	b.sim.world.Eject(h.Name)
	return 204, nil
}

var bootTargets = []string{"None", "Cd", "Hdd", "Pxe"}

func bootOf(h *Host) doc {
	d := doc{"BootSourceOverrideEnabled": "Disabled", "BootSourceOverrideTarget": "None",
		"BootSourceOverrideTarget@Redfish.AllowableValues": bootTargets}
	if h.Media.Once != "" {
		d["BootSourceOverrideEnabled"], d["BootSourceOverrideTarget"] = "Once", h.Media.Once
	}
	return d
}

// setBoot takes what a PATCH of the system says of its boot order; nothing else of it can be changed.
func (b *bmc) setBoot(h *Host, r *http.Request) (int, any) {
	var body map[string]struct {
		BootSourceOverrideEnabled, BootSourceOverrideTarget string
	}
	if err := json.NewDecoder(r.Body).Decode(&body); err != nil {
		return 400, fault{error: err, id: "MalformedJSON"}
	}
	boot, ok := body["Boot"]
	if !ok || len(body) != 1 {
		return 400, fault{error: errors.New("of a system only Boot can be changed here"), id: "PropertyNotWritable"}
	}
	if _, current := b.system(h, r); r.Header.Get("If-Match") != "" && r.Header.Get("If-Match") != etag(current) {
		return 412, fault{error: errors.New("it has changed since it was read"), id: "PreconditionFailed"}
	}
	switch boot.BootSourceOverrideEnabled {
	case "Disabled":
		h.Media.Once = ""
	case "Once":
		h.Media.Once = boot.BootSourceOverrideTarget
	default:
		return 400, fault{error: fmt.Errorf("BootSourceOverrideEnabled %q is not taken here", boot.BootSourceOverrideEnabled),
			id: "PropertyValueNotInList"}
	}
	b.sim.world.act("set the boot order of %s: %s", h.Name, boot.BootSourceOverrideEnabled)
	return 204, nil
}
