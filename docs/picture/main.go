// Picture draws the packages of this module as SVG on standard output: what imports stands above what it imports, as
// far down as it can be. An arrow is an import; those that follow from others are left out.
package main

import (
	"encoding/json"
	"errors"
	"fmt"
	"html"
	"io"
	"os"
	"os/exec"
	"slices"
	"strings"
)

const module = "yareharbour/"

func main() {
	if err := draw(os.Stdout); err != nil {
		fmt.Fprintln(os.Stderr, "picture:", err)
		os.Exit(1)
	}
}

// imports are the packages of the module, each with those that it imports.
func imports() (map[string][]string, error) {
	cmd := exec.Command("go", "list", "-json=ImportPath,GoFiles,Imports", module+"...")
	cmd.Stderr = os.Stderr
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	all := map[string][]string{}
	for dec := json.NewDecoder(out); ; {
		var p struct {
			ImportPath       string
			GoFiles, Imports []string
		}
		if err := dec.Decode(&p); errors.Is(err, io.EOF) {
			return all, cmd.Wait()
		} else if err != nil {
			return nil, err
		}
		name := strings.TrimPrefix(p.ImportPath, module)
		if strings.HasSuffix(name, "test") || strings.HasSuffix(name, "/conform") || strings.HasPrefix(name, "docs/") ||
			strings.HasPrefix(name, "e2e") || len(p.GoFiles) == 0 {
			continue // it serves tests, or pictures
		}
		all[name] = []string{}
		for _, i := range p.Imports {
			if own, ok := strings.CutPrefix(i, module); ok {
				all[name] = append(all[name], own)
			}
		}
	}
}

// rows lays the packages out: the lowest import nothing, each other stands one above the highest that it imports.
func rows(all map[string][]string) (out [][]string) {
	depth := map[string]int{}
	var of func(string) int
	of = func(p string) int {
		d, known := depth[p]
		if !known {
			for _, i := range all[p] {
				d = max(d, of(i)+1)
			}
			depth[p] = d
		}
		return d
	}
	for p := range all {
		for of(p) >= len(out) {
			out = append(out, nil)
		}
		out[of(p)] = append(out[of(p)], p)
	}
	for _, r := range out {
		slices.Sort(r)
	}
	slices.Reverse(out)
	return out
}

// reaches tells whether a package imports another through some third.
func reaches(all map[string][]string, from, to string) bool {
	for _, i := range all[from] {
		if i != to && (slices.Contains(all[i], to) || reaches(all, i, to)) {
			return true
		}
	}
	return false
}

func draw(w io.Writer) error {
	all, err := imports()
	if err != nil {
		return err
	}
	const wide, tall, apart, margin = 118, 22, 46, 20
	type point struct{ x, y int }
	at := map[string]point{}
	grid := rows(all)
	most := 0
	for _, r := range grid {
		most = max(most, len(r))
	}
	for y, r := range grid {
		for x, p := range r {
			at[p] = point{margin + (most-len(r))*wide/2 + x*wide, margin + y*apart}
		}
	}
	fmt.Fprintf(w, `<svg xmlns="http://www.w3.org/2000/svg" width="%d" height="%d" font-family="sans-serif" `+
		`font-size="11">`+"\n", 2*margin+most*wide, 2*margin+len(grid)*apart)
	fmt.Fprintln(w, `<rect width="100%" height="100%" fill="#fff"/>`)
	for _, r := range grid {
		for _, p := range r {
			for _, i := range all[p] {
				if !reaches(all, p, i) {
					fmt.Fprintf(w, `<line x1="%d" y1="%d" x2="%d" y2="%d" stroke="#9fb4be" stroke-width="0.7"/>`+"\n",
						at[p].x+wide/2-4, at[p].y+tall, at[i].x+wide/2-4, at[i].y)
				}
			}
		}
	}
	inks := map[string]string{"core": "#dcebd9", "connector": "#f3e3cb", "format": "#ece6f2", "tui": "#d5e6ee"}
	for _, r := range grid {
		for _, p := range r {
			group, _, _ := strings.Cut(p, "/")
			ink := inks[group]
			if ink == "" {
				ink = "#eef1f2"
			}
			fmt.Fprintf(w, `<rect x="%d" y="%d" width="%d" height="%d" rx="3" fill="%s" `+
				`stroke="#5f7480" stroke-width="0.7"/>`+"\n", at[p].x, at[p].y, wide-8, tall, ink)
			fmt.Fprintf(w, `<text x="%d" y="%d" text-anchor="middle" fill="#1c2630">%s</text>`+"\n", at[p].x+wide/2-4,
				at[p].y+15, html.EscapeString(p))
		}
	}
	_, err = fmt.Fprintln(w, "</svg>")
	return err
}
