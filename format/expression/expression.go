// Package expression evaluates checks of one's own: expressions of CEL (cel.dev) over a reading. docs/prechecks/own.md
// has the variables, which are version 1 of a schema: later versions add to it, and take nothing away.
//
// An expression sees only what was read: where it uses a variable whose section was not, or not wholly, read, it is not
// evaluated, so that no "there is none" rests on not knowing.
package expression

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"

	"yareharbour/core/estate"
)

// Schema is the version of the variables.
const Schema = 1

// costLimit bounds an evaluation, in CEL's own measure: some ten million comparisons. patience bounds it in time,
// whatever that says.
const (
	costLimit = 10_000_000
	patience  = 2 * time.Second
)

// maxText is the longest expression, in bytes.
const maxText = 8 << 10

// variables are what an expression may use, each with the section that it comes from.
var variables = map[string]estate.SectionName{
	"host":      estate.Host,
	"packages":  estate.Packages,
	"drivers":   estate.Drivers,
	"firmware":  estate.FirmwareItems,
	"settings":  estate.SettingItems,
	"guests":    estate.GuestList,
	"health":    estate.HealthItems,
	"bmc":       estate.BMCState,
	"condition": estate.ConditionItems,
}

// Expression is one that was compiled. It may be evaluated from several goroutines.
type Expression struct {
	Text  string
	Needs []estate.SectionName // that it looks at
	prog  cel.Program
	kind  *cel.Type
}

// Error is what is wrong with an expression, and where.
type Error struct {
	Line, Column int // from 1
	Why          string
}

func (e *Error) Error() string {
	return fmt.Sprintf("line %d, column %d: %s", e.Line, e.Column, e.Why)
}

func environment() (*cel.Env, error) {
	options := []cel.EnvOption{cel.Variable("now", cel.TimestampType), cel.OptionalTypes(),
		cel.Function("older", cel.Overload("older_key_version_version",
			[]*cel.Type{cel.StringType, cel.StringType, cel.StringType}, cel.BoolType,
			cel.FunctionBinding(older)))}
	for name := range variables {
		kind := cel.ListType(cel.MapType(cel.StringType, cel.DynType))
		if name == "host" || name == "bmc" || name == "condition" {
			kind = cel.MapType(cel.StringType, cel.DynType)
		}
		options = append(options, cel.Variable(name, kind))
	}
	return cel.NewEnv(options...)
}

// older compares two versions as the component's kind orders them: older("deb:k", "1", "2") is true.
func older(args ...ref.Val) ref.Val {
	key, err := estate.ParseKey(string(args[0].(types.String)))
	if err != nil {
		return types.NewErr("older: %v", err)
	}
	return types.Bool(key.Scheme().Compare(string(args[1].(types.String)), string(args[2].(types.String))) < 0)
}

// Compile compiles an expression. What is wrong with it is an *Error.
func Compile(text string) (*Expression, error) {
	if len(text) > maxText {
		return nil, &Error{1, 1, fmt.Sprintf("it is longer than %d bytes", maxText)}
	}
	env, err := environment()
	if err != nil {
		return nil, err
	}
	tree, issues := env.Compile(text)
	if issues != nil && len(issues.Errors()) > 0 {
		e := issues.Errors()[0]
		return nil, &Error{max(e.Location.Line(), 1), max(e.Location.Column()+1, 1),
			strings.TrimSuffix(strings.Join(strings.Fields(e.Message), " "), " (in container '')")}
	}
	prog, err := env.Program(tree, cel.CostLimit(costLimit), cel.InterruptCheckFrequency(1000),
		cel.EvalOptions(cel.OptTrackCost))
	if err != nil {
		return nil, err
	}
	x := &Expression{Text: text, prog: prog, kind: tree.OutputType()}
	ast.PostOrderVisit(tree.NativeRep().Expr(), ast.NewExprVisitor(func(e ast.Expr) {
		if e.Kind() == ast.IdentKind {
			if s, ok := variables[e.AsIdent()]; ok && !slices.Contains(x.Needs, s) {
				x.Needs = append(x.Needs, s)
			}
		}
	}))
	slices.Sort(x.Needs)
	return x, nil
}

// CompileCheck compiles an expression that says yes or no.
func CompileCheck(text string) (*Expression, error) {
	x, err := Compile(text)
	if err == nil && x.kind != cel.BoolType && x.kind != cel.DynType {
		return nil, &Error{1, 1, fmt.Sprintf("a check says yes or no, and this is of the type %s", x.kind)}
	}
	return x, err
}

// UnreadError is what evaluating gives where something that the expression looks at was not read.
type UnreadError struct {
	Section estate.SectionName
	Why     string
}

func (e *UnreadError) Error() string { return fmt.Sprintf("%s is unread: %s", e.Section, e.Why) }

// Evaluate evaluates the expression on a reading as it is at the time now, and says what it cost. A reading older than
// maxAge is unread; a maxAge of zero means any age will do.
func (x *Expression) Evaluate(ctx context.Context, r *estate.Reading, now time.Time, maxAge time.Duration) (value any,
	cost uint64, err error) {
	for _, s := range x.Needs {
		if why := r.Unread(s, now, maxAge); why != "" {
			return nil, 0, &UnreadError{s, why}
		}
		if why := r.Section(s).Partial; why != "" {
			return nil, 0, &UnreadError{s, "not all of it was read: " + why}
		}
	}
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	out, details, err := x.prog.ContextEval(ctx, x.values(r, now))
	if details != nil && details.ActualCost() != nil {
		cost = *details.ActualCost()
	}
	if err != nil {
		return nil, cost, err
	}
	return plain(out), cost, nil
}

// Holds evaluates an expression that says yes or no.
func (x *Expression) Holds(ctx context.Context, r *estate.Reading, now time.Time, maxAge time.Duration) (bool, error) {
	v, _, err := x.Evaluate(ctx, r, now, maxAge)
	if err != nil {
		return false, err
	}
	yes, ok := v.(bool)
	if !ok {
		return false, fmt.Errorf("it says %v, and neither yes nor no", v)
	}
	return yes, nil
}

func plain(v ref.Val) any {
	switch v := v.(type) {
	case types.Bool:
		return bool(v)
	case types.String:
		return string(v)
	case types.Int:
		return int64(v)
	case types.Double:
		return float64(v)
	}
	if js, err := v.ConvertToNative(types.JSONValueType); err == nil {
		return js
	}
	return v.Value()
}

// values are the variables that the expression uses.
func (x *Expression) values(r *estate.Reading, now time.Time) map[string]any {
	out := map[string]any{"now": now}
	for name, section := range variables {
		if !slices.Contains(x.Needs, section) {
			continue
		}
		switch section {
		case estate.Host:
			offers := r.Offers()
			out[name] = map[string]any{"name": r.Host, "maker": r.Hardware.Maker, "model": r.Hardware.Model,
				"serial": r.Hardware.Serial, "release": r.Release, "build": r.Build,
				"kernel": r.Kernel.Running, "kernel_installed": r.Kernel.Installed, "booted": r.BootedAt,
				"closed": r.Closed != nil, "memory_mib": r.Capacity.MemoryMiB, "cores": float64(r.Capacity.CPU) / 1000,
				"networks": offers.Networks, "storages": offers.Storages, "features": offers.Features}
		case estate.GuestList:
			out[name] = guests(r)
		case estate.HealthItems:
			list := []map[string]any{}
			for _, h := range r.Health {
				list = append(list, map[string]any{"item": h.Item, "ok": h.OK, "detail": h.Detail})
			}
			out[name] = list
		case estate.BMCState:
			out[name] = map[string]any{"none": r.BMC.None, "power": r.BMC.Power, "queue": len(r.BMC.Waiting)}
		case estate.ConditionItems:
			out[name] = condition(&r.Condition)
		default:
			out[name] = components(r, section)
		}
	}
	return out
}

func components(r *estate.Reading, section estate.SectionName) []map[string]any {
	out := []map[string]any{}
	for i := range r.Components {
		c := &r.Components[i]
		if c.Key.Section() != section {
			continue
		}
		runs := c.Running
		if runs == "" {
			runs = c.Version
		}
		out = append(out, map[string]any{"key": string(c.Key), "name": c.Key.Name(), "version": c.Version, "runs": runs,
			"device": c.Device, "model": c.Model, "state": c.State, "read": c.Known()})
	}
	return out
}

func guests(r *estate.Reading) []map[string]any {
	out := []map[string]any{}
	for i := range r.Guests {
		g := &r.Guests[i]
		out = append(out, map[string]any{"id": g.ID, "name": g.Name, "state": string(g.State),
			"memory_mib": g.Load.MemoryMiB, "cores": float64(g.Load.CPU) / 1000, "networks": g.Networks,
			"devices": g.Devices, "since": g.Since, "machine": g.Machine.Name, "machine_version": g.Machine.Version,
			"agent": g.Agent.Name, "agent_version": g.Agent.Version, "emulator": g.Emulator})
	}
	return out
}

func condition(c *estate.Condition) map[string]any {
	space, bonds, arrays, certs := []map[string]any{}, []map[string]any{}, []map[string]any{}, []map[string]any{}
	for _, s := range c.Space {
		space = append(space, map[string]any{"path": s.Path, "free_mib": s.FreeMiB, "size_mib": s.SizeMiB})
	}
	for _, b := range c.Bonds {
		up := 0
		for _, l := range b.Links {
			if l.Up {
				up++
			}
		}
		bonds = append(bonds, map[string]any{"name": b.Name, "links": len(b.Links), "up": up})
	}
	for _, a := range c.Arrays {
		arrays = append(arrays, map[string]any{"name": a.Name, "whole": a.Whole, "detail": a.Detail})
	}
	for _, x := range c.Certificates {
		certs = append(certs, map[string]any{"name": x.Name, "until": x.Until})
	}
	return map[string]any{"clock_ahead": c.Ahead, "root": c.Root, "volatile": c.Volatile, "space": space,
		"bonds": bonds, "arrays": arrays, "certificates": certs}
}
