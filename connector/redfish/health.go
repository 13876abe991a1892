package redfish

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"

	"yareharbour/core/estate"
)

// status is how a resource says that it is (DSP0268, Status).
type status struct {
	State, Health, HealthRollup string
	Conditions                  []struct{ Message string }
}

// part is anything that has a name and a status.
type part struct {
	Name, MemberId, Id string
	DeviceLocator      string // of memory
	Status             status
}

// chassis is what is looked at of a chassis: the older resources for power and temperature, the newer ones, and its
// drives.
type chassis struct {
	part
	Power, Thermal, PowerSubsystem, ThermalSubsystem, Drives ref
}

// storage is what is looked at of a system's storage: controllers within it or in a collection of their own, disks by
// links or, in the older resource, within it.
type storage struct {
	part
	StorageControllers, Devices []part
	Controllers, Volumes        ref
	Drives                      []ref
}

// survey gathers health. Each thing that could not be read is remembered, and costs only itself.
type survey struct {
	c       *Client
	items   []estate.Health
	seen    map[string]bool
	rollups []part
	missing []string
}

// Health returns what the BMC reports of every chassis, of its power supplies, fans and temperatures, and of the
// system's memory, disks and processors. partial says what could not be read. That nothing at all has a health is an
// error: it is not known to be well.
func (c *Client) Health(ctx context.Context) (items []estate.Health, partial string, err error) {
	v := &survey{c: c, seen: map[string]bool{}}
	links, err := c.of(ctx, "Chassis", func(s service) ref { return s.Chassis })
	if err != nil {
		return nil, "", c.wrap("reading health", err)
	}
	all, err := each[chassis](ctx, c, links)
	if err != nil {
		return nil, "", c.wrap("reading health", err)
	}
	for _, ch := range all {
		of := ""
		if len(all) > 1 {
			of = cmp.Or(ch.Name, ch.Id) + ": "
		}
		v.chassis(ctx, ch, of)
	}
	if s, err := c.system(ctx); err != nil {
		v.lost("the system", err)
	} else {
		v.system(ctx, s)
	}
	v.roll()
	if ctx.Err() != nil {
		v.lost("what was not asked for in time", ctx.Err())
	}
	if len(v.items) == 0 {
		return nil, "", c.wrap("reading health",
			&refusal{message: strings.Join(append([]string{"nothing that it lists has a health"}, v.missing...), "; ")})
	}
	return v.items, strings.Join(v.missing, "; "), nil
}

func (v *survey) lost(what string, err error) {
	v.missing = append(v.missing, fmt.Sprintf("%s could not be read: %v", what, unwrapURL(err)))
}

// chassis reads one chassis. Where both the older and the newer resources are there, each thing counts once.
func (v *survey) chassis(ctx context.Context, ch chassis, of string) {
	v.rollups = append(v.rollups, part{Name: of + "chassis", Status: ch.Status})
	var power struct {
		PowerSupplies []part
		Redundancy    []part
	}
	if v.read(ctx, ch.Power, of+"power", &power) {
		v.take(of, "power supply", power.PowerSupplies)
		v.take(of, "power redundancy", power.Redundancy)
	}
	var thermal struct{ Fans, Temperatures, Redundancy []part }
	if v.read(ctx, ch.Thermal, of+"temperatures and fans", &thermal) {
		v.take(of, "fan", thermal.Fans)
		v.take(of, "temperature", thermal.Temperatures)
		v.take(of, "fan redundancy", thermal.Redundancy)
	}
	for _, sub := range []ref{ch.PowerSubsystem, ch.ThermalSubsystem} {
		var newer struct {
			part
			PowerSupplies, Batteries, Fans ref
		}
		if v.read(ctx, sub, of+"power and cooling", &newer) {
			v.rollups = append(v.rollups, part{Name: of + "power and cooling", Status: newer.Status})
			v.collection(ctx, newer.PowerSupplies, of, "power supply")
			v.collection(ctx, newer.Batteries, of, "battery")
			v.collection(ctx, newer.Fans, of, "fan")
		}
	}
	v.collection(ctx, ch.Drives, of, "disk")
}

// system reads memory, processors, and storage with its disks.
func (v *survey) system(ctx context.Context, s system) {
	v.rollups = append(v.rollups, part{Name: "system", Status: s.Status})
	v.collection(ctx, s.Memory, "", "memory")
	v.collection(ctx, s.Processors, "", "processor")
	for _, at := range []ref{s.Storage, s.SimpleStorage} {
		if at.ID == "" {
			continue
		}
		links, err := v.members(ctx, at, "storage")
		var all []storage
		if err == nil {
			all, err = each[storage](ctx, v.c, links)
		}
		if err != nil {
			v.lost("storage", err)
			continue
		}
		for _, st := range all {
			v.rollups = append(v.rollups, part{Name: "storage " + cmp.Or(st.Name, st.Id), Status: st.Status})
			v.take("", "storage controller", st.StorageControllers)
			v.take("", "disk", st.Devices)
			v.collection(ctx, st.Controllers, "", "storage controller")
			v.collection(ctx, st.Volumes, "", "volume")
			drives, err := each[part](ctx, v.c, st.Drives)
			if err != nil {
				v.lost("the disks of "+cmp.Or(st.Name, st.Id), err)
				continue
			}
			v.take("", "disk", drives)
		}
	}
}

// read reads what a link leads to, and remembers where it could not. Without a link there is nothing to read.
func (v *survey) read(ctx context.Context, at ref, what string, into any) bool {
	if at.ID == "" {
		return false
	}
	err := v.c.get(ctx, at.ID, into)
	if err != nil && !refused(err, http.StatusNotFound) { // some link to what they do not have
		v.lost(what, err)
	}
	return err == nil
}

// members are those that a collection lists, and remembers where those are not all.
func (v *survey) members(ctx context.Context, at ref, what string) ([]ref, error) {
	links, err := v.c.members(ctx, at.ID)
	if errors.As(err, new(*shortError)) {
		v.lost(what, err)
		err = nil
	}
	return links, err
}

func (v *survey) collection(ctx context.Context, at ref, of, kind string) {
	if at.ID == "" {
		return
	}
	links, err := v.members(ctx, at, of+kind)
	if refused(err, http.StatusNotFound) {
		return
	}
	var parts []part
	if err == nil {
		parts, err = each[part](ctx, v.c, links)
	}
	if err != nil {
		v.lost(of+kind, err)
		return
	}
	v.take(of, kind, parts)
}

// take counts each thing that is there and says how it is. What does not say so is left out: it is neither well nor
// ill.
func (v *survey) take(of, kind string, parts []part) {
	for i, p := range parts {
		health := cmp.Or(p.Status.Health, p.Status.HealthRollup)
		if health == "" || p.Status.State == "Absent" {
			continue
		}
		name := strings.TrimSpace(cmp.Or(p.Name, p.DeviceLocator, p.Id, fmt.Sprint(i+1)))
		if isNumber(name) {
			name = kind + " " + name
		}
		v.count(of+name, health, p.Status)
	}
}

// isNumber tells whether a name says nothing but which of several it is.
func isNumber(name string) bool { return strings.Trim(name, "0123456789 ") == "" }

func (v *survey) count(name, health string, s status) {
	if v.seen[name+"\x00"+health] {
		return
	}
	v.seen[name+"\x00"+health] = true
	h := estate.Health{Item: name, OK: health == "OK"}
	for _, c := range s.Conditions {
		h.Detail = strings.Trim(h.Detail+"; "+c.Message, "; ")
	}
	if !h.OK && h.Detail == "" {
		h.Detail = health
	}
	v.items = append(v.items, h)
}

// roll counts what sums up others only where it says more than they do: that something is wrong, and none of them is.
func (v *survey) roll() {
	for _, i := range v.items {
		if !i.OK {
			return
		}
	}
	for _, p := range v.rollups {
		worst := cmp.Or(p.Status.HealthRollup, p.Status.Health)
		if p.Status.Health != "" && p.Status.Health != "OK" {
			worst = p.Status.Health
		}
		if worst != "" && worst != "OK" {
			v.count(p.Name, worst, p.Status)
		}
	}
}
