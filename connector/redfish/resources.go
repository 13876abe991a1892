package redfish

import (
	"context"
	"errors"
	"net/http"
	"path"
	"strings"

	"yareharbour/connector"
	"yareharbour/core/estate"
)

type ref struct {
	ID string `json:"@odata.id"`
}

type collection struct{ Members []ref }

// first returns the only, or first, member of a collection that the service root names.
func (c *Client) first(ctx context.Context, name string) (string, error) {
	var root map[string]any
	if err := c.get(ctx, "/redfish/v1/", &root); err != nil {
		return "", err
	}
	link, _ := root[name].(map[string]any)
	at, _ := link["@odata.id"].(string)
	if at == "" {
		return "", &refusal{http.StatusNotFound, "it has no " + name}
	}
	var col collection
	if err := c.get(ctx, at, &col); err != nil {
		return "", err
	}
	if len(col.Members) == 0 {
		return "", &refusal{http.StatusNotFound, "its " + name + " are empty"}
	}
	return col.Members[0].ID, nil
}

// System returns the host's hardware, and the power state as Redfish says it.
func (c *Client) System(ctx context.Context) (hw estate.Hardware, power string, err error) {
	at, err := c.first(ctx, "Systems")
	if err != nil {
		return hw, "", c.wrap("reading the system", err)
	}
	var s struct{ Manufacturer, Model, SerialNumber, PowerState string }
	err = c.get(ctx, at, &s)
	return estate.Hardware{Maker: s.Manufacturer, Model: s.Model, Serial: s.SerialNumber}, s.PowerState, c.wrap("reading the system", err)
}

// Health returns what the chassis reports of its power supplies and their like.
func (c *Client) Health(ctx context.Context) ([]estate.Health, error) {
	at, err := c.first(ctx, "Chassis")
	if err != nil {
		return nil, c.wrap("reading health", err)
	}
	var p struct {
		PowerSupplies []struct {
			Name   string
			Status struct {
				Health     string
				Conditions []struct{ Message string }
			}
		}
	}
	if err := c.get(ctx, at+"/Power", &p); err != nil {
		return nil, c.wrap("reading health", err)
	}
	var out []estate.Health
	for _, s := range p.PowerSupplies {
		h := estate.Health{Item: s.Name, OK: s.Status.Health == "OK"}
		for _, cond := range s.Status.Conditions {
			h.Detail = strings.Trim(h.Detail+"; "+cond.Message, "; ")
		}
		out = append(out, h)
	}
	return out, nil
}

type softwareInventory struct {
	ref
	Id, Name, Version string
	Oem               struct {
		YareHarbour struct{ RunningVersion string }
	}
}

// component turns an inventory item into a component. The part of its id before the first dot is the component's name; its name is the model, with the device in parentheses where there are several.
func (s softwareInventory) component() estate.Component {
	model, device, _ := strings.Cut(strings.TrimSuffix(s.Name, ")"), " (")
	id, _, _ := strings.Cut(s.Id, ".")
	c := estate.Component{Key: estate.Key("fw:" + id), Version: s.Version, Model: model, Device: device}
	if c.Version == "" { // DSP0268 lets Version be null
		c.Unread = "its BMC names no version"
	}
	if run := s.Oem.YareHarbour.RunningVersion; run != "" {
		c.Running, c.Restarts = run, "host"
	}
	return c
}

func (c *Client) items(ctx context.Context) ([]softwareInventory, error) {
	var col collection
	if err := c.get(ctx, "/redfish/v1/UpdateService/FirmwareInventory", &col); err != nil {
		return nil, err
	}
	out := make([]softwareInventory, 0, len(col.Members))
	for _, m := range col.Members {
		var s softwareInventory
		if err := c.get(ctx, m.ID, &s); err != nil {
			return nil, err
		}
		s.ID = m.ID
		out = append(out, s)
	}
	return out, nil
}

// Inventory returns every firmware that the BMC knows.
func (c *Client) Inventory(ctx context.Context) ([]estate.Component, error) {
	items, err := c.items(ctx)
	if err != nil {
		return nil, c.wrap("reading the firmware inventory", err)
	}
	var out []estate.Component
	for _, s := range items {
		out = append(out, s.component())
	}
	return out, nil
}

// Update pushes an image at one component and returns the task that applies it.
func (c *Client) Update(ctx context.Context, key estate.Key, device, file string, image []byte) (task string, err error) {
	items, err := c.items(ctx)
	if err != nil {
		return "", c.wrap("updating "+string(key), err)
	}
	target := ""
	for _, s := range items {
		if comp := s.component(); comp.Key == key && comp.Device == device {
			target = s.ID
		}
	}
	if target == "" {
		return "", c.wrap("updating "+string(key), &refusal{http.StatusNotFound, "the BMC knows no such component"})
	}
	var service struct{ MultipartHttpPushUri string }
	if err := c.get(ctx, "/redfish/v1/UpdateService", &service); err != nil {
		return "", c.wrap("updating "+string(key), err)
	}
	kind, body, err := multipartPush([]string{target}, file, image)
	if err != nil {
		return "", err
	}
	var t struct{ Id string }
	_, err = c.call(ctx, http.MethodPost, service.MultipartHttpPushUri, kind, body, &t)
	return t.Id, c.wrap("updating "+string(key), err)
}

type taskResource struct {
	Id, TaskState, TaskStatus string
	PercentComplete           int
	Messages                  []struct{ Message string }
}

func (t taskResource) task() connector.Task {
	out := connector.Task{ID: t.Id, Percent: t.PercentComplete, State: connector.TaskRuns}
	switch t.TaskState {
	case "Completed":
		out.State = connector.TaskDone
	case "Exception", "Killed", "Cancelled":
		out.State = connector.TaskFailed
		for _, m := range t.Messages {
			out.Error = strings.Trim(out.Error+"; "+m.Message, "; ")
		}
	}
	return out
}

// Task returns a task, or connector.ErrNoTask.
func (c *Client) Task(ctx context.Context, id string) (connector.Task, error) {
	var t taskResource
	err := c.get(ctx, "/redfish/v1/TaskService/Tasks/"+id, &t)
	var said *refusal
	if errors.As(err, &said) && said.status == http.StatusNotFound {
		return connector.Task{}, connector.ErrNoTask
	}
	return t.task(), c.wrap("reading a task", err)
}

// Queue returns the tasks that wait or run.
func (c *Client) Queue(ctx context.Context) ([]connector.Task, error) {
	var col collection
	if err := c.get(ctx, "/redfish/v1/TaskService/Tasks", &col); err != nil {
		return nil, c.wrap("reading the task queue", err)
	}
	var out []connector.Task
	for _, m := range col.Members {
		t, err := c.Task(ctx, path.Base(m.ID))
		if errors.Is(err, connector.ErrNoTask) {
			continue
		}
		if err != nil {
			return nil, err
		}
		if t.State == connector.TaskRuns {
			out = append(out, t)
		}
	}
	return out, nil
}

// Reset asks for a reset of the system; kind is a Redfish ResetType.
func (c *Client) Reset(ctx context.Context, kind string) error {
	at, err := c.first(ctx, "Systems")
	if err == nil {
		err = c.post(ctx, at+"/Actions/ComputerSystem.Reset", map[string]string{"ResetType": kind}, nil)
	}
	return c.wrap("resetting", err)
}

// ReadSection reads into the reading what the BMC tells of that section: firmware, health, or the BMC's own state with the host's hardware.
func (c *Client) ReadSection(ctx context.Context, name estate.SectionName, r *estate.Reading) (err error) {
	switch name {
	case estate.FirmwareItems:
		items, err := c.Inventory(ctx)
		r.Components = append(r.Components, items...)
		return err
	case estate.HealthItems:
		r.Health, err = c.Health(ctx)
		return err
	}
	hw, power, err := c.System(ctx)
	if err != nil {
		return err
	}
	r.Hardware, r.BMC.Power = hw, power
	queue, err := c.Queue(ctx)
	r.BMC.Queue = len(queue)
	return err
}
