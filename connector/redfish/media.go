package redfish

import (
	"cmp"
	"context"
	"net/http"
	"slices"
	"strings"

	"yareharbour/connector"
)

// boot is what is looked at of a system's boot order (DSP2046, ComputerSystem.Boot).
type boot struct {
	BootSourceOverrideEnabled string   // "Disabled", "Once", "Continuous"
	BootSourceOverrideTarget  string   // "None", "Cd", …
	Allowed                   []string `json:"BootSourceOverrideTarget@Redfish.AllowableValues"`
}

// once is what the host is to start from beside its usual order; "" for nothing.
func (b boot) once() string {
	if b.BootSourceOverrideTarget == "None" || b.BootSourceOverrideEnabled == "Disabled" {
		return ""
	}
	return b.BootSourceOverrideTarget
}

// drive is what is looked at of a virtual drive (DSP2046, VirtualMedia).
type drive struct {
	ref
	Image      string
	MediaTypes []string
	Inserted   *bool
	Actions    struct {
		Insert struct {
			Target string `json:"target"`
		} `json:"#VirtualMedia.InsertMedia"`
		Eject struct {
			Target string `json:"target"`
		} `json:"#VirtualMedia.EjectMedia"`
	}
}

// takes tells whether images of CDs or DVDs go into it.
func (d *drive) takes() bool {
	return slices.Contains(d.MediaTypes, "CD") || slices.Contains(d.MediaTypes, "DVD")
}

// holds is the address of what is in it; "" where it is empty.
func (d *drive) holds() string {
	if d.Inserted != nil && !*d.Inserted {
		return ""
	}
	return d.Image
}

// drives are the virtual drives for images of CDs: of the system, or of the managers, where older services have them. A
// service that knows of none has none.
func (c *Client) drives(ctx context.Context, s system) (out []drive, err error) {
	at := []string{s.VirtualMedia.ID}
	if s.VirtualMedia.ID == "" {
		type manager struct{ VirtualMedia ref }
		links, err := c.of(ctx, "Managers", func(s service) ref { return s.Managers })
		if refused(err, http.StatusNotFound) {
			return nil, nil
		}
		if err != nil {
			return nil, err
		}
		all, err := each[manager](ctx, c, links)
		if err != nil {
			return nil, err
		}
		at = nil
		for _, m := range all {
			at = append(at, m.VirtualMedia.ID)
		}
	}
	for _, a := range at {
		if a == "" {
			continue
		}
		links, err := c.members(ctx, a)
		if refused(err, http.StatusNotFound, http.StatusNotImplemented) {
			continue
		}
		if err != nil {
			return nil, err
		}
		all, err := each[drive](ctx, c, links)
		if err != nil {
			return nil, err
		}
		for i := range all {
			if all[i].ID = links[i].ID; all[i].takes() {
				out = append(out, all[i])
			}
		}
	}
	return out, nil
}

// Mount puts the image of the order's address into the first drive that is empty, or holds it already, and has the host
// start from that once.
func (c *Client) Mount(ctx context.Context, o connector.Order) error {
	return c.wrap("putting an image into its virtual drive", func() error {
		s, err := c.system(ctx)
		if err != nil {
			return err
		}
		all, err := c.drives(ctx, s)
		if err != nil {
			return err
		}
		if len(all) == 0 {
			return &refusal{status: http.StatusNotFound, message: "it has no virtual drive for a CD"}
		}
		i := slices.IndexFunc(all, func(d drive) bool { return d.holds() == o.URL })
		if i < 0 {
			if i = slices.IndexFunc(all, func(d drive) bool { return d.holds() == "" }); i < 0 {
				return &refusal{message: "its virtual drive holds " + all[0].holds() + ", which is not ours to take out"}
			}
			if err := c.insert(ctx, o, &all[i]); err != nil {
				return err
			}
		}
		target := "Cd"
		if a := s.Boot.Allowed; len(a) > 0 && !slices.Contains(a, target) {
			return &refusal{message: "it can't start its host from a virtual CD: it offers " + strings.Join(a, ", ")}
		}
		return c.override(ctx, o, s.ID, "Once", target)
	}())
}

// insert puts the image into a drive, by the drive's own action, or by changing it where it has none.
func (c *Client) insert(ctx context.Context, o connector.Order, d *drive) error {
	scheme, _, _ := strings.Cut(o.URL, ":")
	body := map[string]any{"Image": o.URL, "Inserted": true, "WriteProtected": true, "TransferProtocolType": strings.ToUpper(scheme)}
	if at := d.Actions.Insert.Target; at != "" {
		return c.send(ctx, o, http.MethodPost, at, body)
	}
	return c.send(ctx, o, http.MethodPatch, d.ID, map[string]any{"Image": o.URL, "Inserted": true, "WriteProtected": true})
}

// Unmount takes the image of the order's address out, or whatever is in where it names none, and has the host start as
// usual. What is so already is no failure.
func (c *Client) Unmount(ctx context.Context, o connector.Order) error {
	return c.wrap("taking an image out of its virtual drive", func() error {
		s, err := c.system(ctx)
		if err != nil {
			return err
		}
		if s.Boot.once() != "" {
			if err := c.override(ctx, o, s.ID, "Disabled", "None"); err != nil {
				return err
			}
		}
		all, err := c.drives(ctx, s)
		if err != nil {
			return err
		}
		for i := range all {
			d := &all[i]
			if d.holds() == "" || o.URL != "" && d.holds() != o.URL {
				continue
			}
			if at := d.Actions.Eject.Target; at != "" {
				err = c.send(ctx, o, http.MethodPost, at, map[string]any{})
			} else {
				err = c.send(ctx, o, http.MethodPatch, d.ID, map[string]any{"Image": nil, "Inserted": false})
			}
			if err != nil {
				return err
			}
		}
		return nil
	}())
}

func (c *Client) override(ctx context.Context, o connector.Order, at, enabled, target string) error {
	return c.send(ctx, o, http.MethodPatch, at, map[string]any{"Boot": map[string]string{"BootSourceOverrideEnabled": enabled,
		"BootSourceOverrideTarget": target}})
}

// inserted are the addresses of what is in the drives, and how many of them there are.
func (c *Client) inserted(ctx context.Context, s system) (n int, media []string, err error) {
	all, err := c.drives(ctx, s)
	for i := range all {
		if at := all[i].holds(); at != "" {
			media = append(media, cmp.Or(at, "something"))
		}
	}
	return len(all), media, err
}
