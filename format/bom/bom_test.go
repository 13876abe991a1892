package bom

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	cdx "github.com/CycloneDX/cyclonedx-go"
	"github.com/santhosh-tekuri/jsonschema/v6"

	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
)

// inventory is one of two hosts: one with an open flaw and a package that is there twice, and one whose firmware could not be
// read.
func inventory() Of {
	at := time.Date(2026, 11, 21, 20, 0, 0, 0, time.UTC)
	cat := &catalogue.Catalogue{}
	cat.Add(catalogue.Feed{Name: "f"}, []catalogue.Release{{Component: "deb:brae-tls", Version: "1.9-brae1"}})
	cat.AddAdvisories(catalogue.Feed{Name: "f"}, []catalogue.Advisory{{ID: "BRAE-2026-0111", Title: "a\x1b[2Jflaw", Severity: catalogue.Critical, Score: 9.8,
		Vector: "CVSS:3.1/AV:N/AC:L/PR:N/UI:N/S:U/C:H/I:H/A:H", Link: "https://brae.example/0111", Published: at,
		Affects: []catalogue.Affect{{Component: "deb:brae-tls", Fixed: "1.9-brae1"}}}})
	heron := &estate.Reading{Host: "heron", Hardware: estate.Hardware{Maker: "Corran", Model: "Quay 1", Serial: "Q1-7"}, Release: "Brae Linux 4.2", System: "brae 4",
		Components: []estate.Component{{Key: "deb:brae-tls", Version: "1.9-brae1", Running: "1.8-brae1", Restarts: "host"}, {Key: "deb:k", Version: "1"}, {Key: "deb:k", Version: "2"},
			{Key: "fw:nic", Device: "slot 2", Model: "L25", Version: "7.3"}, {Key: "drv:nic", Version: "2.0"}, {Key: "set:firewall/default", Version: "drop"}}}
	ibis := &estate.Reading{Host: "ibis", Components: []estate.Component{{Key: "deb:brae-tls", Version: "1.9-brae1"}}}
	for _, r := range []*estate.Reading{heron, ibis} {
		for _, s := range estate.SectionNames {
			sec := estate.Section{Name: s, At: at, Source: "test"}
			if r == ibis && s == estate.FirmwareItems {
				sec.Err = "the BMC is silent"
			}
			r.SetSection(sec)
		}
	}
	return Of{Estate: "Merrow Sound", About: "vts", Now: at, Version: "0", Hosts: []*estate.Reading{heron, ibis}, Missing: []string{"knot"}, Catalogue: cat}
}

// An inventory is valid by the schema that the module ships, holds what was read and nothing else, and is the same bytes
// each time.
func TestAnInventory(t *testing.T) {
	var b, again, xml bytes.Buffer
	if err := Write(&b, inventory(), "json"); err != nil {
		t.Fatal(err)
	}
	if err := Write(&again, inventory(), "json"); err != nil || again.String() != b.String() {
		t.Error("not the same bytes", err)
	}
	if err := Write(&xml, inventory(), "xml"); err != nil || !strings.Contains(xml.String(), `xmlns="http://cyclonedx.org/schema/bom/1.6"`) {
		t.Errorf("%v\n%.300s", err, xml.String())
	}
	schema := shipped(t)
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(b.Bytes()))
	if err != nil {
		t.Fatal(err)
	}
	if err := schema.Validate(doc); err != nil {
		t.Error(err)
	}
	var got cdx.BOM
	if err := cdx.NewBOMDecoder(bytes.NewReader(b.Bytes()), cdx.BOMFileFormatJSON).Decode(&got); err != nil {
		t.Fatal(err)
	}
	hosts := *got.Components
	if len(hosts) != 2 || len(*hosts[0].Components) != 5 || len(*hosts[1].Components) != 1 {
		t.Fatalf("%+v", hosts)
	}
	refs := map[string]bool{}
	for _, p := range *hosts[0].Components {
		if refs[p.BOMRef] {
			t.Errorf("%s is there twice", p.BOMRef)
		}
		refs[p.BOMRef] = true
	}
	text := b.String()
	for _, want := range []string{`"pkg:deb/brae/brae-tls@1.9-brae1?distro=brae-4"`, `"type": "firmware"`, `"type": "device-driver"`, `"slot 2"`, "firmware: the BMC is silent",
		"yare:never-read", `"knot"`, `"Q1-7"`} {
		if !strings.Contains(text, want) {
			t.Errorf("lacks %s", want)
		}
	}
	if strings.ContainsAny(text, "\x1b") || strings.Contains(text, `\u001b`) || strings.Contains(text, "firewall") {
		t.Error("what has no place in it is in it")
	}
	vs := *got.Vulnerabilities
	if len(vs) != 1 || len(*vs[0].Affects) != 1 || (*vs[0].Affects)[0].Ref != "host/heron/deb:brae-tls" || (*(*vs[0].Affects)[0].Range)[0].Version != "1.8-brae1" {
		t.Errorf("what runs, not what is installed, lies open to a flaw: %+v", vs)
	}
}

// shipped is the schema of CycloneDX 1.6 that comes with the module.
func shipped(t *testing.T) *jsonschema.Schema {
	t.Helper()
	dir, err := exec.Command("go", "list", "-m", "-f", "{{.Dir}}", "github.com/CycloneDX/cyclonedx-go").Output()
	if err != nil {
		t.Fatal(err)
	}
	c := jsonschema.NewCompiler()
	for name, file := range map[string]string{"bom-1.6.schema.json": "bom-1.6.schema.json", "spdx.schema.json": "spdx.schema.json", "jsf-0.82.schema.json": "jsf-0.82.schemax.json"} {
		text, err := os.ReadFile(filepath.Join(strings.TrimSpace(string(dir)), "schema", file))
		if err != nil {
			t.Fatal(err)
		}
		doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
		if err != nil {
			t.Fatal(err)
		}
		if err := c.AddResource("http://cyclonedx.org/schema/"+name, doc); err != nil {
			t.Fatal(err)
		}
	}
	s, err := c.Compile("http://cyclonedx.org/schema/bom-1.6.schema.json")
	if err != nil {
		t.Fatal(err)
	}
	return s
}
