// Package demo is the made-up estate: Merrow Sound Port Authority, three clusters of hosts named after shore birds,
// with a case for every situation that the screens must show. It also generates estates of any size from a seed.
package demo

import (
	"crypto/sha256"
	"embed"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/google/renameio/v2"

	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
	"yareharbour/format/estatefile"
	"yareharbour/format/releaselist"
	"yareharbour/images"
	"yareharbour/sim"
)

//go:embed data
var data embed.FS

// Start is when the demo estate's time begins: a Saturday evening.
var Start = time.Date(2026, 11, 21, 20, 0, 0, 0, time.UTC)

// EstateFile is the name of the estate file that Write writes.
const EstateFile = "estate.yaml"

// SimDir is the directory of the simulated estate, below the one given to Write.
const SimDir = "sim"

// Write puts the demo's files below dir: the estate file, release lists, baselines and payloads. Files that are there
// already are left as they are, so that what somebody tried out in them is not lost.
func Write(dir string) error {
	if err := writeMirror(filepath.Join(dir, "feeds", "brae-mirror")); err != nil {
		return err
	}
	if err := writeRPM(filepath.Join(dir, "feeds", "brae-rpm")); err != nil {
		return err
	}
	if err := writeFirmware(filepath.Join(dir, filepath.FromSlash(FirmwareBundle))); err != nil {
		return err
	}
	if err := writeBundle(filepath.Join(dir, filepath.FromSlash(BundleFile))); err != nil {
		return err
	}
	return fs.WalkDir(data, "data", func(name string, e fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		to := filepath.Join(dir, filepath.FromSlash(strings.TrimPrefix(name, "data")))
		if e.IsDir() {
			return os.MkdirAll(to, 0o700)
		}
		text, err := data.ReadFile(name)
		if err != nil {
			return err
		}
		if path.Base(path.Dir(name)) == "releases" {
			if text, err = payloads(name, text, filepath.Join(dir, "payloads")); err != nil {
				return err
			}
		}
		return writeNew(to, text)
	})
}

func writeNew(path string, text []byte) error {
	if _, err := os.Stat(path); err == nil {
		return nil
	}
	return renameio.WriteFile(path, text, 0o600)
}

// payloads writes a payload file for every release of the list and returns the list with their names, sizes and hashes.
func payloads(name string, text []byte, dir string) ([]byte, error) {
	b, err := releaselist.Parse(name, text)
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	var out strings.Builder
	n := 0
	for line := range strings.Lines(string(text)) {
		if strings.HasPrefix(line, "    sha256: 0000") {
			body, err := image(b.Releases)
			if err != nil {
				return nil, err
			}
			if err := writeNew(filepath.Join(dir, ImageFile), body); err != nil {
				return nil, err
			}
			fmt.Fprintf(&out, "    size: %d\n    sha256: %s\n", len(body), sum(body))
			continue
		}
		out.WriteString(line)
		if !strings.HasPrefix(line, "      - version:") {
			continue
		}
		if b.Releases[n].Component.Kind() == estate.WholeHost { // its members have files, not it
			n++
			continue
		}
		file, body, err := Payload(b.Releases[n])
		if err != nil {
			return nil, err
		}
		if err := writeNew(filepath.Join(dir, file), body); err != nil {
			return nil, err
		}
		sum := sha256.Sum256(body)
		fmt.Fprintf(&out, "        file: %s\n        size: %d\n        sha256: %s\n", file, len(body),
			hex.EncodeToString(sum[:]))
		n++
	}
	return []byte(out.String()), nil
}

// ImageFile is the image that the demo's hosts can start from.
const ImageFile = "corran-chassis-2026-11.image"

// image makes it: what a simulated host understands that starts from it, and a blank for whom it tells how far it is.
func image(all []catalogue.Release) ([]byte, error) {
	i := sim.Image{Report: images.Mark + strings.Repeat(" ", images.Blank-len(images.Mark))}
	for _, r := range all {
		if r.Image {
			i.Takes = r.Takes
			i.Brings = append(i.Brings, sim.Payload{Component: r.Component, Version: r.Version, Restart: r.Restart, Hardware: r.Hardware})
		}
	}
	return json.Marshal(i)
}

// Payload makes the payload file of a release: what a simulated host or BMC understands, and filler up to a believable
// size.
func Payload(r catalogue.Release) (file string, body []byte, err error) {
	p := sim.Payload{Component: r.Component, Version: r.Version, Restart: r.Restart, Hardware: r.Hardware}
	seed := sha256.Sum256([]byte(string(r.Component) + r.Version))
	p.Filler = strings.Repeat(hex.EncodeToString(seed[:]), 200)
	body, err = json.Marshal(p)
	suffix := ""
	if len(r.Hardware) > 0 {
		suffix = "_" + strings.ReplaceAll(r.Hardware[0], " ", "-")
	}
	return strings.NewReplacer(":", "_", "*", "_").Replace(string(r.Component)+"_"+r.Version+suffix) + ".payload",
		body, err
}

// Estate is the demo's estate file, read.
func Estate() (estatefile.File, error) {
	text, err := data.ReadFile("data/estate.yaml")
	if err != nil {
		return estatefile.File{}, err
	}
	return estatefile.Parse("estate.yaml", text)
}

// World makes the demo's world as it is at Start.
func World() *sim.World {
	f, err := Estate()
	if err != nil {
		panic(err) // the file is part of the program
	}
	w := &sim.World{Now: Start, Hosts: map[string]*sim.Host{}, Restarts: map[string]int{}, Estate: f.Describe()}
	running := parseGuests(guests)
	for _, c := range f.Clusters {
		for i, name := range c.Hosts {
			h := host(name, c.Name, i)
			h.Reading.Guests = running[name]
			for j := range h.Reading.Guests {
				h.Reading.Guests[j].Networks = []string{c.Name}
			}
			w.Hosts[name] = h
		}
	}
	situations(w)
	for _, h := range w.Hosts {
		h.Reading.Sort()
	}
	return w
}

func parseGuests(text string) map[string][]estate.Guest {
	out := map[string][]estate.Guest{}
	host := ""
	for _, word := range strings.Fields(text) {
		if h, ok := strings.CutSuffix(word, ":"); ok {
			host = h
			continue
		}
		out[host] = append(out[host], parseGuest(word))
	}
	return out
}

func parseGuest(word string) estate.Guest {
	parts := strings.Split(word, "/")
	f := strings.Split(parts[0], ":")
	gib, _ := strconv.ParseInt(f[1], 10, 64)
	cores, _ := strconv.ParseInt(f[2], 10, 64)
	g := estate.Guest{ID: sim.UUID("guest " + f[0]), Name: f[0], State: estate.Running,
		Load: estate.Resources{MemoryMiB: gib * 1024, CPU: cores * 1000}, Since: Start.AddDate(0, -2, 0),
		Agent: estate.Inner{Name: "brae-agent", Version: "2.3"}, Machine: estate.Inner{Name: "q35", Version: "9.2"},
		Emulator: "9.2.4-brae1",
		Disks:    []estate.Disk{{Target: "vda", Source: "/srv/guests/" + f[0] + ".img", Format: "qcow2"}}}
	for _, p := range parts[1:] {
		switch k, v, _ := strings.Cut(p, "="); k {
		case "dev":
			g.Devices = append(g.Devices, v)
		case "iso":
			g.Disks = append(g.Disks, estate.Disk{Target: "sda", Source: "/srv/media/" + v, Media: true, Local: true})
		case "label":
			g.Labels = append(g.Labels, v)
		case "off":
			g.State = estate.Off
		}
	}
	return g
}
