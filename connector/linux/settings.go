package linux

import (
	"errors"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"

	"yareharbour/core/act"
	"yareharbour/core/estate"
)

// settings reads kernel arguments, name servers, time zone and time servers, the firewall's default, a few settings
// of the kernel, and which services are enabled and run.
func (m Machine) settings(r *estate.Reading, all []process) error {
	line, err := m.text("proc/cmdline")
	if err != nil {
		return err
	}
	set := func(name, value string) {
		r.Components = append(r.Components, estate.Component{Key: estate.Key("set:" + name), Version: value})
	}
	seen := map[string]bool{}
	for _, arg := range strings.Fields(line) {
		if arg == "--" { // what follows is for the first program, not for the kernel (kernel-parameters)
			break
		}
		name, value, ok := strings.Cut(arg, "=")
		if !ok {
			value = "set"
		}
		// one that is given twice, as console=, is told once
		if name = "kernel-argument/" + name; !seen[name] && value != "" {
			seen[name] = true
			set(name, value)
		}
	}
	var some partly
	for i, s := range m.nameServers(&some) {
		set("name-server/"+strconv.Itoa(i+1), s)
	}
	if zone, err := m.ReadLink("etc/localtime"); err == nil {
		if _, name, ok := strings.Cut(zone, "zoneinfo/"); ok {
			set("time-zone", name)
		}
	}
	for i, s := range m.timeServers(&some) {
		set("time-server/"+strconv.Itoa(i+1), s)
	}
	r.Components = append(r.Components, m.firewall())
	for _, name := range act.KernelSettings {
		switch value, err := m.text("proc/sys/" + strings.ReplaceAll(name, ".", "/")); {
		case err == nil && value != "":
			r.Components = append(r.Components, estate.Component{Key: act.KernelSetting(name), Version: value})
		case err == nil, errors.Is(err, fs.ErrNotExist): // its kernel has none
		default:
			r.Components = append(r.Components, estate.Component{Key: act.KernelSetting(name), Unread: err.Error()})
		}
	}
	for name, words := range m.services(all) {
		set("service/"+strings.TrimSuffix(name, ".service"), strings.Join(words, ", "))
	}
	return some.or(nil)
}

// nameServers are those of resolv.conf(5), or, where that only names systemd's own stub, those behind it.
func (m Machine) nameServers(some *partly) []string {
	of := func(name string) (out []string) {
		b, err := m.ReadFile(name)
		some.note("name servers", err)
		for _, l := range lines(b) {
			if f := strings.Fields(l); len(f) >= 2 && f[0] == "nameserver" {
				out = append(out, f[1])
			}
		}
		return out
	}
	named := of("etc/resolv.conf")
	if slices.Equal(named, []string{"127.0.0.53"}) {
		if behind := of("run/systemd/resolve/resolv.conf"); len(behind) > 0 {
			return behind
		}
	}
	return named
}

// timeServers are the servers and pools that the configurations of chrony, ntpd and systemd-timesyncd name, in their
// order.
func (m Machine) timeServers(some *partly) (out []string) {
	files := []string{"etc/chrony/chrony.conf", "etc/chrony.conf", "etc/ntp.conf", "etc/ntpsec/ntp.conf",
		"etc/systemd/timesyncd.conf"}
	files = append(files, m.Glob("etc/chrony/sources.d/*.sources")...)
	for _, name := range files {
		b, err := m.ReadFile(name)
		some.note("time servers", err)
		for _, l := range lines(b) {
			f := strings.Fields(l)
			switch {
			case len(f) >= 2 && (f[0] == "server" || f[0] == "pool" || f[0] == "peer"):
				f = f[1:2]
			case strings.HasPrefix(l, "NTP="):
				f = strings.Fields(strings.TrimPrefix(l, "NTP="))
			default:
				continue
			}
			for _, s := range f {
				if !slices.Contains(out, s) {
					out = append(out, s)
				}
			}
		}
	}
	return out
}

// firewall is what becomes of a packet to the machine that no rule speaks of: "drop" where an input chain's policy says
// so, and else "accept".
func (m Machine) firewall() estate.Component {
	c := estate.Component{Key: "set:firewall/default"}
	rules, err := m.Output("nft", "list", "ruleset")
	if err == nil {
		c.Version = nftDefault(rules)
		return c
	}
	if missing(err) {
		rules, err = m.Output("iptables", "-S", "INPUT")
	}
	switch {
	case missing(err):
		c.Unread = "neither nft nor iptables is there to ask"
	case err != nil:
		c.Unread = err.Error()
	case strings.HasPrefix(string(rules), "-P INPUT ACCEPT"):
		c.Version = "accept"
	default:
		c.Version = "drop"
	}
	return c
}

// nftDefault reads the listing of nft(8): the policy stands on the line that hooks a filter chain to the input.
func nftDefault(rules []byte) string {
	for _, l := range lines(rules) {
		if strings.Contains(l, "type filter hook input") && strings.Contains(l, "policy drop") {
			return "drop"
		}
	}
	return "accept"
}

// services says of each unit that is enabled or runs, which of the two.
func (m Machine) services(all []process) map[string][]string {
	state := map[string][]string{}
	for _, s := range m.Glob("etc/systemd/system/*.wants/*.service") {
		state[path.Base(s)] = []string{"enabled"}
	}
	for _, p := range all {
		if p.service != "" && !slices.Contains(state[p.service], "running") {
			state[p.service] = append(state[p.service], "running")
		}
	}
	return state
}
