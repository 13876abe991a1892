package redfish

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"path"
	"regexp"
	"strconv"
	"strings"
	"sync"
)

// settings are those of the system's firmware (DSP0268, Bios), as it names them; none where it tells none. What its
// attribute registry calls read-only is no setting, nor is what tells a date or a time.
func (c *Client) settings(ctx context.Context) (map[string]string, error) {
	s, err := c.system(ctx)
	var b struct {
		AttributeRegistry string
		Attributes        map[string]any
	}
	if err == nil && s.Bios.ID != "" {
		err = c.get(ctx, s.Bios.ID, &b)
	}
	if no := new(refusal); errors.As(err, &no) && s.Bios.ID != "" {
		return nil, nil // it links to what it does not have
	}
	if err != nil {
		return nil, c.wrap("reading the firmware's settings", err)
	}
	if len(b.Attributes) > maxMembers {
		return nil, c.wrap("reading the firmware's settings", &refusal{message: "it has more than can be"})
	}
	told, err := c.toldOnly(ctx, s.Model, b.AttributeRegistry)
	if err != nil {
		return nil, c.wrap("reading which of the firmware's attributes are settings", err)
	}
	out := map[string]string{}
	for name, v := range b.Attributes {
		says := fmt.Sprint(v)
		if n, is := v.(float64); is {
			says = strconv.FormatFloat(n, 'f', -1, 64)
		}
		if !moment.MatchString(says) && !told[name] {
			out[name] = says
		}
	}
	return out, nil
}

// moment matches a text that is a date, a time of day, or both.
var moment = regexp.MustCompile(`^(\d{4}-\d\d-\d\d|\d\d/\d\d/\d{4}|\d{1,2}:\d\d)([T ,]*\d{1,2}:\d\d)?(:\d\d(\.\d+)?)?` +
	`(Z|[+-]\d\d:?\d\d)?$`)

// registries are what attribute registries call read-only, by hardware model and the registry's name: they are large, and
// hosts of a model have the same.
var registries sync.Map

// toldOnly are the attributes that the registry calls read-only: what they tell is set by nobody. None where the BMC has
// no such registry.
func (c *Client) toldOnly(ctx context.Context, model, name string) (map[string]bool, error) {
	key := model + "\x00" + name
	if known, ok := registries.Load(key); ok {
		return known.(map[string]bool), nil
	}
	at, err := c.registry(ctx, name)
	var r struct {
		RegistryEntries struct {
			Attributes []struct {
				AttributeName string
				ReadOnly      bool
			}
		}
	}
	if err == nil && at != "" {
		err = c.get(ctx, at, &r)
	}
	if no := new(refusal); err != nil && !errors.As(err, &no) { // it did not answer: the next look asks again
		return nil, err
	}
	out := map[string]bool{}
	for _, a := range r.RegistryEntries.Attributes {
		if a.ReadOnly {
			out[a.AttributeName] = true
		}
	}
	registries.Store(key, out)
	return out, nil
}

// registry is where the registry of that name lies; "" where the BMC has none (DSP0268, MessageRegistryFile).
func (c *Client) registry(ctx context.Context, name string) (string, error) {
	if name == "" {
		return "", nil
	}
	links, err := c.of(ctx, "Registries", func(s service) ref { return s.Registries })
	for _, l := range links {
		if id := path.Base(l.ID); id != name && !strings.HasPrefix(name, id+".") {
			continue
		}
		var f struct {
			Location []struct{ Language, Uri string }
		}
		if err := c.get(ctx, l.ID, &f); err != nil {
			return "", err
		}
		at := ""
		for _, x := range f.Location {
			if at = cmp.Or(at, x.Uri); x.Language == "en" {
				at = x.Uri
			}
		}
		return at, nil
	}
	return "", err
}
