package cli

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"yareharbour/core/narrow"
	"yareharbour/core/view"
	"yareharbour/export"
	"yareharbour/harbour"
)

// output is how and where a command shows something, and how much of it.
type output struct {
	format string // "": by the ending of the file's name, or text
	file   string
	narrow string
	paper  string   // of a PDF
	forms  []string // in which it can be written, the usual one first; nil: export.Formats
}

func (o *output) among() []string {
	if o.forms == nil {
		return export.Formats
	}
	return o.forms
}

// flags adds --format, --json and --output.
func (o *output) flags(c *cobra.Command) {
	f := c.Flags()
	f.Func("format", strings.Join(o.among(), ", ")+" (default: by the ending of the output file, or "+o.among()[0]+")", o.set)
	f.BoolFunc("json", "print JSON, as --format json does", func(string) error { return o.set("json") })
	o.only(c, "file to write; its ending chooses the format (default: standard output)")
	completes(c, "format", o.among()...)
}

// pages adds --paper, for what is handed in.
func (o *output) pages(c *cobra.Command) {
	c.Flags().Func("paper", "size of the pages of a PDF: "+strings.Join(export.Papers, " or ")+" (default a4)", func(size string) error {
		if !slices.Contains(export.Papers, size) {
			return fmt.Errorf("there is no paper %q; there are %s", size, strings.Join(export.Papers, " and "))
		}
		o.paper = size
		return nil
	})
	completes(c, "paper", export.Papers...)
}

// narrowing adds --narrow too.
func (o *output) narrowing(a *app, c *cobra.Command) {
	o.flags(c)
	c.Flags().StringVar(&o.narrow, "narrow", "", "only what this filter lets through, as \"severity=high layer=firmware\" or "+
		"@NAME for a kept one; docs/verdicts.md tells the language")
	_ = c.RegisterFlagCompletionFunc("narrow", a.completing((*app).filterNames)) // the flag is there
}

func (o *output) set(format string) error {
	if !slices.Contains(o.among(), format) {
		return fmt.Errorf("there is no format %q; there are %s", format, strings.Join(o.among(), ", "))
	}
	o.format = format
	return nil
}

// filter is what the command shows only.
func (o *output) filter(ctx context.Context, h *harbour.Harbour) (narrow.Filter, error) {
	if h == nil {
		return narrow.Parse(o.narrow)
	}
	return h.Narrow(ctx, o.narrow)
}

// is is the form that is written.
func (o *output) is() string {
	switch {
	case o.format != "":
		return o.format
	case o.file == "" || o.file == "-":
		return o.among()[0]
	}
	return cmp.Or(export.Format(o.file, o.among()), o.among()[0])
}

// show writes a document as the options say, narrowed where it is a list.
func (a *app) show(ctx context.Context, h *harbour.Harbour, o *output, d view.Document) error {
	f, err := o.filter(ctx, h)
	if err != nil {
		return err
	}
	if h != nil {
		d = h.Dated(d)
	}
	d.Paper = o.paper
	return a.write(o, func(w io.Writer) error { return export.Write(w, d.Narrow(f), o.is()) })
}

// write writes to the file, whole or not at all, or to standard output.
func (a *app) write(o *output, what func(w io.Writer) error) error {
	var b bytes.Buffer
	if err := what(&b); err != nil {
		return err
	}
	if o.file == "" || o.file == "-" {
		_, err := a.raw.Write(b.Bytes()) // what is written out has passed the border
		return err
	}
	return export.WriteFile(o.file, b.Bytes())
}

// text writes a text of our own, as it is.
func (a *app) text(o *output, text []byte) error {
	return a.write(o, func(w io.Writer) error { _, err := w.Write(text); return err })
}

// only adds --output alone, for what has but one form. A place where no file can be is told before anything is done.
func (o *output) only(c *cobra.Command, says string) {
	c.Flags().FuncP("output", "o", says, func(file string) error {
		if d, err := os.Stat(filepath.Dir(file)); err != nil || !d.IsDir() {
			return fmt.Errorf("there is no directory %s", filepath.Dir(file))
		}
		o.file = file
		return nil
	})
}
