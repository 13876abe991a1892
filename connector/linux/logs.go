package linux

import (
	"maps"
	"slices"
	"strings"

	"yareharbour/core/act"
)

// LogWord asks a probe for the ends of logs, beside its sections.
const LogWord = "log"

// logLine is how much of a line of a log is told, in bytes.
const logLine = 400

// Logs are the ends of the logs that a probe brought, of the package manager's, of libvirt's and of its guests'.
func (p *Probed) Logs() []act.Log {
	packages, guests := act.Log{Of: act.LogPackages}, act.Log{Of: act.LogGuests}
	of := func(path string) *act.Log {
		if path == "journal" || strings.Contains(path, "/libvirt/") {
			return &guests
		}
		return &packages
	}
	for _, name := range slices.Sorted(maps.Keys(p.outputs)) {
		path, is := strings.CutPrefix(name, "log ")
		if !is {
			continue
		}
		to := of(path)
		for _, l := range lines(p.outputs[name].Bytes()) {
			if l = strings.TrimSpace(l); l != "" {
				to.Lines = append(to.Lines, l[:min(len(l), logLine)])
			}
		}
	}
	for name := range p.denied {
		if strings.HasPrefix(name, "var/log/") {
			of(name).Err = "/" + name + " may not be read"
		}
	}
	return []act.Log{packages, guests}
}
