package sim

import (
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"yareharbour/core/estate"
)

func (b *bmc) updateService(*Host, *http.Request) (int, any) {
	return 200, resource("/UpdateService", "#UpdateService.v1_14_0.UpdateService", "UpdateService", "Updates", doc{
		"ServiceEnabled": true, "FirmwareInventory": link("/UpdateService/FirmwareInventory"),
		"MultipartHttpPushUri": root + "/UpdateService/push",
		"Status":               doc{"State": "Enabled", "Health": "OK"},
		"Actions": doc{"#UpdateService.SimpleUpdate": doc{"target": root +
			"/UpdateService/Actions/UpdateService.SimpleUpdate",
			"TransferProtocol@Redfish.AllowableValues": []string{"HTTP", "HTTPS"}}},
	})
}

// itemID is the inventory id of a component: its name, and its device where there are several.
func itemID(c estate.Component) string {
	return strings.Trim(c.Key.Name()+"."+strings.ReplaceAll(c.Device, " ", "-"), ".")
}

func firmware(h *Host) (out []estate.Component) {
	for _, c := range h.Reading.Components {
		if c.Key.Layer() == estate.Firmware {
			out = append(out, c)
		}
	}
	return out
}

func (b *bmc) inventory(h *Host, _ *http.Request) (int, any) {
	if why := h.Unread[estate.FirmwareItems]; why != "" {
		return 500, errors.New(why)
	}
	members := []doc{}
	for _, c := range firmware(h) {
		members = append(members, link("/UpdateService/FirmwareInventory/"+itemID(c)))
	}
	return 200, collection("/UpdateService/FirmwareInventory", "SoftwareInventoryCollection", "Firmware", members)
}

func (b *bmc) inventoryItem(h *Host, r *http.Request) (int, any) {
	for _, c := range firmware(h) {
		if itemID(c) != r.PathValue("id") {
			continue
		}
		name := c.Model
		if c.Device != "" {
			name += " (" + c.Device + ")"
		}
		d := resource("/UpdateService/FirmwareInventory/"+itemID(c), "#SoftwareInventory.v1_10_2.SoftwareInventory",
			itemID(c), name, doc{
				"SoftwareId": bootID(string(c.Key), 0), "Version": c.Version, "Updateable": true,
				"Manufacturer": h.Reading.Hardware.Maker,
				"Status":       doc{"State": "Enabled", "Health": "OK"}, "RelatedItem": []doc{link(relatedTo(c))}})
		if c.Running != "" {
			d["Status"] = doc{"State": "StandbyOffline", "Health": "OK"}
			d["Description"] = "active after restart; " + c.Running + " runs"
			d["Oem"] = doc{"YareHarbour": doc{"RunningVersion": c.Running}}
		}
		return 200, d
	}
	return 404, fault{error: errors.New("there is no such firmware"), id: "ResourceMissingAtURI"}
}

// relatedTo is what a component is the firmware of.
func relatedTo(c estate.Component) string {
	at := map[string]string{"network": "/Chassis/1/NetworkAdapters/", "storage": "/Systems/1/Storage/",
		"disk": "/Chassis/1/Drives/"}[c.Class]
	switch {
	case at != "":
		return at + itemID(c)
	case c.Class == "bmc":
		return "/Managers/bmc"
	}
	return "/Systems/1"
}

// device serves what a component is the firmware of, as far as its name goes.
func (b *bmc) device(kind string) func(*Host, *http.Request) (int, any) {
	return func(h *Host, r *http.Request) (int, any) {
		for _, c := range firmware(h) {
			if at := relatedTo(c); root+at == r.URL.Path {
				return 200, resource(at, kind, itemID(c), c.Model,
					doc{"Manufacturer": h.Reading.Hardware.Maker, "Model": c.Model, "Status": doc{"State": "Enabled"}})
			}
		}
		return 404, fault{error: errors.New("there is no such device"), id: "ResourceMissingAtURI"}
	}
}

// push takes an image by multipart push (DSP0266, "Software update"): UpdateParameters and UpdateFile.
func (b *bmc) push(h *Host, r *http.Request) (int, any) {
	if err := r.ParseMultipartForm(64 << 20); err != nil {
		return 400, fmt.Errorf("this is no multipart push: %w", err)
	}
	var params struct{ Targets []string }
	if text := r.FormValue("UpdateParameters"); text != "" {
		if err := json.Unmarshal([]byte(text), &params); err != nil {
			return 400, fmt.Errorf("UpdateParameters: %w", err)
		}
	}
	f, _, err := r.FormFile("UpdateFile")
	if err != nil {
		return 400, fmt.Errorf("UpdateFile: %w", err)
	}
	body, err := io.ReadAll(f)
	if err != nil {
		return 400, err
	}
	return b.flash(h, body, params.Targets)
}

// simpleUpdate fetches the image itself, from loopback only: a simulated BMC has no network.
func (b *bmc) simpleUpdate(_ *Host, r *http.Request) (int, any) {
	var body struct {
		ImageURI string
		Targets  []string
	}
	if err := json.NewDecoder(r.Body).Decode(&body); err != nil {
		return 400, err
	}
	return 0, func() answer {
		image, err := fetch(body.ImageURI)
		return func(h *Host) (int, any) {
			if err != nil {
				return 400, fault{error: fmt.Errorf("ImageURI: %w", err), id: "ActionParameterValueError"}
			}
			return b.flash(h, image, body.Targets)
		}
	}
}

// client fetches for BMCs, and tells for images: certificates of their own are all that there are on loopback.
var client = http.Client{Timeout: 10 * time.Second,
	Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}

func loopback(u *url.URL) bool {
	ip := net.ParseIP(u.Hostname())
	return ip != nil && ip.IsLoopback()
}

func fetch(uri string) ([]byte, error) {
	u, err := url.Parse(uri)
	if err != nil {
		return nil, err
	}
	if !loopback(u) {
		return nil, fmt.Errorf("%s is not on loopback", u.Hostname())
	}
	resp, err := client.Get(uri)
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	if resp.StatusCode != 200 {
		return nil, fmt.Errorf("%s", resp.Status)
	}
	return io.ReadAll(io.LimitReader(resp.Body, 64<<20))
}

func (b *bmc) flash(h *Host, image []byte, targets []string) (int, any) {
	p, err := ParsePayload(image)
	if err != nil {
		return 400, err
	}
	device, found := "", false
	for _, c := range firmware(h) {
		at := root + "/UpdateService/FirmwareInventory/" + itemID(c)
		if c.Key == p.Component && (len(targets) == 0 || targets[0] == at) {
			device, found = c.Device, true
			break
		}
	}
	if !found {
		return 400, fmt.Errorf("the image is for %s, and there is none such at %v", p.Component, targets)
	}
	id, err := b.sim.world.Flash(h.Name, device, p)
	if err != nil {
		return 400, err
	}
	t, _ := b.sim.world.Task(id)
	return 202, taskDoc(t)
}

func taskDoc(t Task) doc {
	state, status := taskState(t)
	d := resource("/TaskService/Tasks/"+t.ID, "#Task.v1_7_4.Task", t.ID, "Firmware update", doc{
		"TaskState": state, "TaskStatus": status, "PercentComplete": t.Percent,
		"StartTime":   t.From.Format(time.RFC3339),
		"TaskMonitor": root + "/TaskService/TaskMonitors/" + t.ID})
	if t.Error != "" {
		d["Messages"] = []doc{{"MessageId": "Update.1.0.ApplyFailed", "Message": t.Error,
			"MessageSeverity": "Critical"}}
	}
	return d
}

func (b *bmc) taskService(*Host, *http.Request) (int, any) {
	return 200, resource("/TaskService", "#TaskService.v1_2_1.TaskService", "TaskService", "Tasks",
		doc{"ServiceEnabled": true, "Tasks": link("/TaskService/Tasks")})
}

func (b *bmc) taskList(h *Host, _ *http.Request) (int, any) {
	members := []doc{}
	for _, id := range h.Waiting {
		members = append(members, link("/TaskService/Tasks/"+id))
	}
	for _, t := range b.sim.world.Firmware(h.Name) {
		members = append(members, link("/TaskService/Tasks/"+t.ID))
	}
	return 200, collection("/TaskService/Tasks", "TaskCollection", "Tasks", members)
}

func (b *bmc) find(h *Host, id string) (Task, error) {
	t, err := b.sim.world.Task(id)
	if err != nil || t.Host != h.Name || t.Kind != "firmware" {
		return t, fault{error: errors.New("there is no such task"), id: "ResourceMissingAtURI"}
	}
	return t, nil
}

func (b *bmc) task(h *Host, r *http.Request) (int, any) {
	id := r.PathValue("id")
	if slices.Contains(h.Waiting, id) {
		d := doc{"TaskState": "Pending", "TaskStatus": "OK", "PercentComplete": 0}
		if at := h.Since[id]; !at.IsZero() {
			d["StartTime"] = at.Format(time.RFC3339)
		}
		return 200, resource("/TaskService/Tasks/"+id, "#Task.v1_7_4.Task", id, "Update at next restart", d)
	}
	t, err := b.find(h, id)
	if err != nil {
		return 404, err
	}
	return 200, taskDoc(t)
}

func (b *bmc) clearTask(h *Host, r *http.Request) (int, any) {
	i := slices.Index(h.Waiting, r.PathValue("id"))
	if i < 0 {
		return 404, fault{error: errors.New("there is no such waiting task"), id: "ResourceMissingAtURI"}
	}
	h.Waiting = slices.Delete(slices.Clone(h.Waiting), i, i+1)
	b.sim.world.act("clear a waiting task of %s", h.Name)
	return 204, nil
}

// monitor answers 202 while the task runs and 200 with the task when it has ended.
func (b *bmc) monitor(h *Host, r *http.Request) (int, any) {
	t, err := b.find(h, r.PathValue("id"))
	if err != nil {
		return 404, err
	}
	if state, _ := taskState(t); state == "Running" {
		return 202, taskDoc(t)
	}
	return 200, taskDoc(t)
}
