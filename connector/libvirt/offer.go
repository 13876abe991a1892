package libvirt

import (
	"encoding/xml"
	"fmt"
	"strings"

	"yareharbour/format/bounds"
)

// machines are the types of machine that a libvirt's capabilities name (libvirt's "Driver capabilities XML format"),
// each by all of its names.
func machines(text string) (out []string, err error) {
	var c struct {
		Guests []struct {
			Arch struct {
				Machines []struct {
					Canonical string `xml:"canonical,attr"`
					Name      string `xml:",chardata"`
				} `xml:"machine"`
				Domains []struct {
					Machines []struct {
						Name string `xml:",chardata"`
					} `xml:"machine"`
				} `xml:"domain"`
			} `xml:"arch"`
		} `xml:"guest"`
	}
	if err := xml.NewDecoder(bounds.XML(strings.NewReader(text), bounds.Usual)).Decode(&c); err != nil {
		return nil, fmt.Errorf("its capabilities: %w", err)
	}
	for _, g := range c.Guests {
		for _, m := range g.Arch.Machines {
			out = append(out, m.Name)
			if m.Canonical != "" {
				out = append(out, m.Canonical)
			}
		}
		for _, d := range g.Arch.Domains {
			for _, m := range d.Machines {
				out = append(out, m.Name)
			}
		}
	}
	return out, nil
}

// models are the models of CPU that guests of a kind can have there (libvirt's "Domain capabilities XML format").
func models(kind, text string) (out []string, err error) {
	var c struct {
		Modes []struct {
			Name   string `xml:"name,attr"`
			Models []struct {
				Usable string `xml:"usable,attr"`
				Name   string `xml:",chardata"`
			} `xml:"model"`
		} `xml:"cpu>mode"`
	}
	if err := xml.NewDecoder(bounds.XML(strings.NewReader(text), bounds.Usual)).Decode(&c); err != nil {
		return nil, fmt.Errorf("what guests of the kind %s can have: %w", kind, err)
	}
	for _, m := range c.Modes {
		for _, x := range m.Models {
			if m.Name == "custom" && x.Usable == "yes" {
				out = append(out, cpu(kind, x.Name))
			}
		}
	}
	return out, nil
}

// cpu names a model of CPU among the features of hosts and guests.
func cpu(kind, model string) string { return "CPU " + model + " (" + kind + ")" }

// needs are the features that the guest needs of a host: its type of machine, and its model of CPU where that is named.
func (d *domain) needs() (out []string) {
	if d.Type.Machine != "" {
		out = append(out, d.Type.Machine)
	}
	if d.CPU.Mode == "custom" && d.CPU.Model != "" {
		out = append(out, cpu(d.Kind, d.CPU.Model))
	}
	return out
}
