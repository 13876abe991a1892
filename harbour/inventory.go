package harbour

import (
	"context"
	"io"
	"strings"

	"yareharbour/core/estate"
	"yareharbour/format/bom"
)

// InventoryFormats are the forms of an inventory.
var InventoryFormats = bom.Formats

// Inventory writes what hosts are made of, as they were last read; all where none is named. missing are those that were
// never read.
func (h Looking) Inventory(ctx context.Context, w io.Writer, names []string, version, format string) (missing []string, err error) {
	hosts, err := h.Hosts(names...)
	if err != nil {
		return nil, err
	}
	kept, err := h.readings.Newest(ctx, hosts)
	if err != nil {
		return nil, err
	}
	var all []*estate.Reading
	for _, host := range hosts {
		if r := kept[host]; r != nil {
			all = append(all, r)
		} else {
			missing = append(missing, host)
		}
	}
	return missing, bom.Write(w, bom.Of{Estate: h.Estate.Name, About: strings.Join(names, ", "), Now: h.Now(), Version: version, Hosts: all, Missing: missing,
		Catalogue: h.Catalogue()}, format)
}
