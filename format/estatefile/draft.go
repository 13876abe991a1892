package estatefile

import (
	"fmt"
	"strings"

	"github.com/goccy/go-yaml"
)

// Draft is an estate file that is to be written: one cluster of hosts over SSH, which is only looked at.
type Draft struct {
	Estate    string
	Cluster   string
	Hosts     []string
	Connector Connector
	BMCs      []BMC
}

// Text returns the file, with words for whoever reads it next. The error is Parse's: what can't be read is not written.
func (d Draft) Text() ([]byte, error) {
	var b strings.Builder
	say := func(indent, key string, value any, words string) {
		text, err := yaml.MarshalWithOptions(value, yaml.Flow(true))
		if err != nil {
			text = []byte(`""`)
		}
		line := fmt.Sprintf("%s%s: %s", indent, key, strings.TrimSpace(string(text)))
		if words != "" {
			line = fmt.Sprintf("%-45s # %s", line, words)
		}
		b.WriteString(line + "\n")
	}
	say("", "estate", d.Estate, "")
	b.WriteString("connector:\n  kind: ssh\n")
	if d.Connector.User != "" {
		say("  ", "user", d.Connector.User, "who logs in to hosts")
	}
	if d.Connector.Sudo {
		say("  ", "sudo", true, "commands run as root")
	}
	if len(d.Connector.Config) > 0 {
		say("  ", "ssh_config", d.Connector.Config, "")
	}
	if len(d.Connector.KnownHosts) > 0 {
		say("  ", "known_hosts", d.Connector.KnownHosts, "")
	}
	if d.Connector.Migration.URI != "" {
		say("  ", "migration", map[string]string{"uri": d.Connector.Migration.URI},
			"how one host's libvirt reaches another's")
	}
	b.WriteString("clusters:\n")
	say("  - ", "name", d.Cluster, "")
	say("    ", "act", false, "true allows rounds over it; until then it is only looked at")
	say("    ", "reserve", min(1, len(d.Hosts)-1), "hosts that may fail while all guests still find a place")
	say("    ", "hosts", d.Hosts, "")
	if len(d.BMCs) > 0 {
		b.WriteString("bmcs:\n")
	}
	for _, m := range d.BMCs {
		say("  - ", "host", m.Host, "")
		say("    ", "at", m.At, "")
		say("    ", "user", m.User, "")
		say("    ", "password", string(m.Password), "where it is, never the password itself")
		say("    ", "fingerprint", m.Fingerprint, "SHA-256 of its certificate")
	}
	b.WriteString("baselines: []                                 # files of what hosts should have; \"yare baseline " +
		"derive HOST\" makes one from a good host\n")
	_, err := Parse("the draft", []byte(b.String()))
	return []byte(b.String()), err
}
