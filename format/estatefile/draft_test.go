package estatefile

import (
	"reflect"
	"strings"
	"testing"
)

// What is drafted is read again as it was meant, whatever it holds; it allows nothing.
func TestADraftSaysWhatItMeans(t *testing.T) {
	d := Draft{Estate: `Merrow: "Sound" # 1`, Cluster: "yes", Hosts: []string{"h1", "1.10", "null"},
		Connector: Connector{Kind: SSH, User: "true", Sudo: true, Config: []string{"/a b/ssh_config"},
			KnownHosts: []string{"/k#1"}, Migration: Migration{URI: "qemu+ssh://root@%h/system"}},
		BMCs: []BMC{{Host: "h1", At: "10.0.0.1:443", User: "007", Password: "env:H1_BMC",
			Fingerprint: strings.Repeat("0123456789abcdef", 4)}}}
	text, err := d.Text()
	if err != nil {
		t.Fatalf("%v\n%s", err, text)
	}
	f, err := Parse("x", text)
	if err != nil {
		t.Fatal(err)
	}
	c := f.Clusters[0]
	if f.Estate != d.Estate || c.Name != d.Cluster || !reflect.DeepEqual(c.Hosts, d.Hosts) || c.Act || *c.Reserve != 1 {
		t.Errorf("%+v", f)
	}
	if !reflect.DeepEqual(f.Connector, d.Connector) {
		t.Errorf("%+v, want %+v", f.Connector, d.Connector)
	}
	if b := f.BMCs[0]; b.Host != "h1" || b.User != "007" || b.Password != "env:H1_BMC" {
		t.Errorf("%+v", b)
	}
	one := Draft{Estate: "x", Cluster: "c", Hosts: []string{"only"}}
	text, err = one.Text()
	if err != nil || !strings.Contains(string(text), "reserve: 0") {
		t.Errorf("one host alone can keep no reserve: %v\n%s", err, text)
	}
	if _, err := (Draft{Estate: "x", Cluster: "c", Hosts: []string{"a", "a"}}).Text(); err == nil {
		t.Error("a draft that can't be read is written")
	}
}
