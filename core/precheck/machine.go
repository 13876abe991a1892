package precheck

import (
	"fmt"
	"slices"
	"strings"

	"yareharbour/core/estate"
)

// Copies are the hosts among these that are another of them under a second name, each with the first: both answer, and
// both tell the same boot id, which the kernel draws anew each time it starts.
func Copies(hosts []string, readings map[string]*estate.Reading) map[string]string {
	first, out := map[string]string{}, map[string]string{}
	for _, h := range hosts {
		r := readings[h]
		if r == nil || !r.Read(estate.Host) || r.BootID == "" {
			continue
		}
		if f, known := first[r.BootID]; known {
			out[h] = f
		} else {
			first[r.BootID] = h
		}
	}
	return out
}

// unnumbered are what firmware says where nobody gave the machine a serial number, in small letters.
var unnumbered = []string{"", "none", "n/a", "na", "null", "unknown", "not specified", "not available", "not applicable",
	"default", "default string", "serial", "serial number", "system serial number", "chassis serial number",
	"to be filled by o.e.m.", "o.e.m.", "oem", "empty", "0123456789", "123456789", "1234567890"}

// Serial is the machine's serial number as it is compared with others', without blanks around it; "" where it has none
// worth the name: what firmware says in its stead, or one character again and again.
func Serial(r *estate.Reading) string {
	s := strings.TrimSpace(r.Hardware.Serial)
	if slices.Contains(unnumbered, strings.ToLower(s)) || strings.Trim(s, s[:1]) == "" {
		return ""
	}
	return s
}

// machine holds every host to being a machine of its own.
func machine(f Facts, r *estate.Reading) found {
	copies := Copies(f.Hosts, f.Readings)
	var out []string
	for _, h := range f.Hosts {
		if of, is := copies[h]; is && (f.Empties || r.Host == h || r.Host == of) {
			out = append(out, fmt.Sprintf("%s and %s are one machine: both have the boot id %s", of, h, f.Readings[h].BootID))
		}
	}
	if len(out) > 0 {
		return blocker(strings.Join(out, "; "), "take one of the two names out of the estate file")
	}
	if r.BootID == "" || !r.Read(estate.Host) {
		return unknown(Caution, "which machine it is can't be told", "see why its boot id can't be read")
	}
	for _, x := range []struct {
		what string
		of   func(*estate.Reading) string
	}{{"serial number", Serial}, {"machine id", func(o *estate.Reading) string { return o.Machine }}} {
		var same []string
		for _, h := range f.Hosts {
			if o := f.Readings[h]; o != nil && h != r.Host && x.of(r) != "" && x.of(o) == x.of(r) {
				same = append(same, h)
			}
		}
		if len(same) > 0 {
			out = append(out, fmt.Sprintf("it has the %s of %s", x.what, strings.Join(same, ", ")))
		}
	}
	if len(out) > 0 {
		return caution(strings.Join(out, "; ")+"; their boot ids differ",
			"see that they are machines of their own, and not copies of one installation")
	}
	return clear("its boot id is no other host's")
}
