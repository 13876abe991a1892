package redfish

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime/multipart"
	"net/http"
	"net/textproto"
	"net/url"
	"path"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"yareharbour/connector"
	"yareharbour/core/act"
	"yareharbour/core/estate"
)

type ref struct {
	ID string `json:"@odata.id"`
}

// atOnce is how many resources of one BMC are asked for at the same time: more make some of them stumble.
const atOnce = 4

// maxMembers is how many members of a collection are read.
const maxMembers = 4096

// shortError is that a collection lists fewer members than it counts.
type shortError struct {
	at            string
	listed, count int
}

func (e *shortError) Error() string {
	return fmt.Sprintf("%s counts %d members and lists %d", e.at, e.count, e.listed)
}

// members returns the links of all members of a collection, page by page (DSP0266, "Members@odata.nextLink" and
// "Members@odata.count"). A page that comes twice is an error. Where fewer are listed than are counted the error is a
// *shortError, and those that are come with it.
func (c *Client) members(ctx context.Context, at string) (out []ref, err error) {
	seen, first, count := map[string]bool{}, at, 0
	for at != "" {
		if seen[at] || len(out) > maxMembers {
			return nil, &refusal{message: fmt.Sprintf("%s has pages without an end", at)}
		}
		seen[at] = true
		var page struct {
			Members []ref
			Next    string `json:"Members@odata.nextLink"`
			Count   int    `json:"Members@odata.count"`
		}
		if err := c.get(ctx, at, &page); err != nil {
			return nil, err
		}
		if page.Members == nil { // a collection has them, if only none (DSP0266, "Resource collections")
			return nil, unlisted(at)
		}
		out = append(out, page.Members...)
		at, count = page.Next, max(count, page.Count)
	}
	if len(out) < count {
		return out, &shortError{first, len(out), count}
	}
	return out, nil
}

// unlisted is the error of a collection that does not say what is in it: that is not known, and not nothing.
func unlisted(at string) error {
	return &refusal{message: at + " does not say what its Members are"}
}

// each reads every member of a collection into a value of its own, a few at a time. A member without an address is what
// it says itself, as where a service expands collections unasked.
func each[T any](ctx context.Context, c *Client, links []ref) ([]T, error) {
	out := make([]T, len(links))
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(atOnce)
	for i, l := range links {
		g.Go(func() error { return c.get(ctx, l.ID, &out[i]) })
	}
	return out, g.Wait()
}

// of returns the members of the collection that the root links to.
func (c *Client) of(ctx context.Context, name string, link func(service) ref) ([]ref, error) {
	s, err := c.start(ctx)
	if err != nil {
		return nil, err
	}
	at := link(s).ID
	if at == "" {
		return nil, &refusal{status: http.StatusNotFound, message: "its service root links to no " + name}
	}
	return c.members(ctx, at)
}

// system is what is looked at of a computer system.
type system struct {
	ref
	Manufacturer, Model, SerialNumber, SKU, PowerState, HostName, SystemType string
	Status                                                                   status
	Processors, Memory, Storage, SimpleStorage, Bios, VirtualMedia           ref
	Boot                                                                     boot
	Actions                                                                  struct {
		Reset struct {
			Target string `json:"target"`
		} `json:"#ComputerSystem.Reset"`
	}
}

// system finds the host's own system: the only one, or the physical one, or the one that has the host's name.
func (c *Client) system(ctx context.Context) (system, error) {
	links, err := c.of(ctx, "Systems", func(s service) ref { return s.Systems })
	if err != nil {
		return system{}, err
	}
	all, err := each[system](ctx, c, links)
	if err != nil {
		return system{}, err
	}
	for i := range all {
		all[i].ID = links[i].ID
	}
	if physical := slices.DeleteFunc(slices.Clone(all), func(s system) bool {
		return s.SystemType != "" && s.SystemType != "Physical"
	}); len(physical) > 0 {
		all = physical
	}
	if len(all) > 1 {
		short, _, _ := strings.Cut(c.host, ".")
		all = slices.DeleteFunc(all, func(s system) bool {
			name, _, _ := strings.Cut(s.HostName, ".")
			return !strings.EqualFold(name, short)
		})
		if len(all) != 1 {
			return system{}, &refusal{
				message: fmt.Sprintf("it is the BMC of %d systems, and not one of them says that its name is %s",
					len(links), c.host)}
		}
	}
	if len(all) == 0 {
		return system{}, &refusal{status: http.StatusNotFound, message: "its Systems are empty"}
	}
	return all[0], nil
}

// System returns the host's hardware, and the power state as Redfish says it.
func (c *Client) System(ctx context.Context) (hw estate.Hardware, power string, err error) {
	s, err := c.system(ctx)
	return s.hardware(), s.PowerState, c.wrap("reading the system", err)
}

func (s *system) hardware() estate.Hardware {
	return estate.Hardware{Maker: strings.TrimSpace(s.Manufacturer), Model: strings.TrimSpace(s.Model),
		Serial: strings.TrimSpace(s.SerialNumber)}
}

// update is what is looked at of an update service.
type update struct {
	FirmwareInventory    ref
	MultipartHttpPushUri string
}

func (c *Client) updates(ctx context.Context) (u update, err error) {
	s, err := c.start(ctx)
	if err != nil {
		return u, err
	}
	if s.UpdateService.ID == "" {
		return u, &refusal{status: http.StatusNotFound, message: "its service root links to no UpdateService"}
	}
	return u, c.get(ctx, s.UpdateService.ID, &u)
}

func (c *Client) items(ctx context.Context) ([]item, update, error) {
	u, err := c.updates(ctx)
	if err != nil {
		return nil, u, err
	}
	if u.FirmwareInventory.ID == "" {
		return nil, u, &refusal{status: http.StatusNotFound, message: "its UpdateService links to no FirmwareInventory"}
	}
	links, short := c.members(ctx, u.FirmwareInventory.ID)
	if short != nil && !errors.As(short, new(*shortError)) {
		return nil, u, short
	}
	out, err := each[item](ctx, c, links)
	for i := range out {
		out[i].at = links[i].ID
	}
	return out, u, cmp.Or(err, short)
}

// Inventory returns every firmware that the BMC lists, named by the rule of names.go, and says why that is not all of it;
// "" where it is.
func (c *Client) Inventory(ctx context.Context) (out []estate.Component, partial string, err error) {
	items, _, err := c.items(ctx)
	if short := new(shortError); errors.As(err, &short) {
		partial, err = "its firmware inventory: "+short.Error(), nil
	}
	if err != nil {
		return nil, "", c.wrap("reading the firmware inventory", err)
	}
	if out = components(items, c.target.Names); len(out) == 0 {
		return nil, "", c.wrap("reading the firmware inventory", &refusal{message: "it lists no firmware"})
	}
	return out, partial, nil
}

// Update pushes an image at one component and returns the task that applies it.
func (c *Client) Update(ctx context.Context, o connector.Order, image []byte) (task string, err error) {
	key, device, file := o.Change.Component, o.Change.Device, o.Change.File
	items, u, err := c.items(ctx)
	if err != nil && !errors.As(err, new(*shortError)) {
		return "", c.wrap("updating "+string(key), err)
	}
	target := ""
	for _, s := range items {
		if comp, ok := s.component(c.target.Names); ok && comp.Key == key && comp.Device == device {
			target = s.at
		}
	}
	if target == "" {
		return "", c.wrap("updating "+string(key),
			&refusal{status: http.StatusNotFound, message: "the BMC knows no such component"})
	}
	if u.MultipartHttpPushUri == "" {
		return "", c.wrap("updating "+string(key),
			&refusal{status: http.StatusNotFound, message: "the BMC takes no image by multipart push"})
	}
	kind, body, err := multipartPush([]string{target}, file, image)
	if err != nil {
		return "", err
	}
	var t struct{ Id string }
	_, err = c.callIf(ctx, o.Still, "", http.MethodPost, u.MultipartHttpPushUri, kind, body, &t)
	return t.Id, c.wrap("updating "+string(key), err)
}

// multipartPush makes the body of a multipart push of DSP0266: UpdateParameters as JSON, UpdateFile as octets.
func multipartPush(targets []string, file string, image []byte) (kind string, body []byte, err error) {
	var buf bytes.Buffer
	w := multipart.NewWriter(&buf)
	part := func(disposition, kind string, b []byte) error {
		p, err := w.CreatePart(textproto.MIMEHeader{"Content-Disposition": {disposition}, "Content-Type": {kind}})
		if err == nil {
			_, err = p.Write(b)
		}
		return err
	}
	params, err := json.Marshal(map[string]any{"Targets": targets, "@Redfish.OperationApplyTime": "Immediate"})
	if err != nil {
		return "", nil, err
	}
	err = errors.Join(part(`form-data; name="UpdateParameters"`, "application/json", params),
		part(fmt.Sprintf(`form-data; name="UpdateFile"; filename=%q`, file), "application/octet-stream", image),
		w.Close())
	return w.FormDataContentType(), buf.Bytes(), err
}

type taskResource struct {
	Id, Name, TaskState, TaskStatus, StartTime string
	PercentComplete                            int
	Messages                                   []struct{ Message string }
}

func (t taskResource) task() connector.Task {
	out := connector.Task{ID: t.Id, Percent: t.PercentComplete, State: connector.TaskRuns,
		Says: strings.Trim(t.Name+", "+t.TaskState, ", ")}
	out.Since, _ = time.Parse(time.RFC3339, t.StartTime) // else it does not say
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

// tasks returns where the tasks are.
func (c *Client) tasks(ctx context.Context) (string, error) {
	s, err := c.start(ctx)
	if err != nil {
		return "", err
	}
	if s.Tasks.ID == "" {
		return "", &refusal{status: http.StatusNotFound, message: "its service root links to no task service"}
	}
	var svc struct{ Tasks ref }
	if err := c.get(ctx, s.Tasks.ID, &svc); err != nil {
		return "", err
	}
	return svc.Tasks.ID, nil
}

// Task returns a task, or connector.ErrNoTask.
func (c *Client) Task(ctx context.Context, id string) (connector.Task, error) {
	at, err := c.tasks(ctx)
	if err != nil {
		return connector.Task{}, c.wrap("reading a task", err)
	}
	var t taskResource
	err = c.get(ctx, strings.TrimSuffix(at, "/")+"/"+id, &t)
	if refused(err, http.StatusNotFound) {
		return connector.Task{}, connector.ErrNoTask
	}
	return t.task(), c.wrap("reading a task", err)
}

// Clear deletes the tasks that the order names; one that is gone already is no failure.
func (c *Client) Clear(ctx context.Context, o connector.Order) error {
	at, err := c.tasks(ctx)
	for _, id := range o.Tasks {
		if err != nil {
			break
		}
		_, err = c.callIf(ctx, o.Still, "", http.MethodDelete, strings.TrimSuffix(at, "/")+"/"+url.PathEscape(id), "", nil, nil)
		if refused(err, http.StatusNotFound, http.StatusGone) {
			err = nil
		}
	}
	return c.wrap("clearing its task queue", err)
}

// Started returns when the BMC last started itself, and the zero time where it does not say: then nothing is concluded
// from it.
func (c *Client) Started(ctx context.Context) (newest time.Time, err error) {
	type manager struct{ LastResetTime string }
	links, err := c.of(ctx, "Managers", func(s service) ref { return s.Managers })
	var all []manager
	if err == nil {
		all, err = each[manager](ctx, c, links)
	}
	for _, m := range all {
		if at, wrong := time.Parse(time.RFC3339, m.LastResetTime); wrong == nil && at.After(newest) {
			newest = at
		}
	}
	if no := new(refusal); errors.As(err, &no) {
		return time.Time{}, nil
	}
	return newest, c.wrap("reading its manager", err)
}

// Tasks returns all tasks that the BMC lists, those that ended too. A BMC without a task service has none.
func (c *Client) Tasks(ctx context.Context) ([]connector.Task, error) {
	at, err := c.tasks(ctx)
	if refused(err, http.StatusNotFound, http.StatusNotImplemented) {
		return nil, nil
	}
	var links []ref
	if err == nil {
		links, err = c.members(ctx, at)
	}
	if err != nil {
		return nil, c.wrap("reading the task queue", err)
	}
	var out []connector.Task
	for _, m := range links {
		var t taskResource
		switch err := c.get(ctx, m.ID, &t); {
		case refused(err, http.StatusNotFound): // it ended and was cleared between the list and the look
			continue
		case err != nil:
			return nil, c.wrap("reading the task queue", err)
		}
		task := t.task()
		if task.ID == "" {
			task.ID = path.Base(m.ID)
		}
		out = append(out, task)
	}
	return out, nil
}

// Reset asks for a reset of the system; kind is a Redfish ResetType.
func (c *Client) Reset(ctx context.Context, kind string) error {
	s, err := c.system(ctx)
	if err == nil && s.Actions.Reset.Target == "" {
		err = &refusal{status: http.StatusNotFound, message: "its system offers no reset"}
	}
	if err == nil {
		err = c.post(ctx, s.Actions.Reset.Target, map[string]string{"ResetType": kind}, nil)
	}
	return c.wrap("resetting", err)
}

// ReadSection reads into the reading what the BMC tells of that section: firmware, health, or the BMC's own state with
// the host's hardware. Where a part of it could not be read, partial says which.
func (c *Client) ReadSection(ctx context.Context, name estate.SectionName,
	r *estate.Reading) (partial string, err error) {
	switch name {
	case estate.FirmwareItems:
		items, partial, err := c.Inventory(ctx)
		r.Components = append(r.Components, items...)
		if err == nil {
			var lost error
			if r.Board, lost = c.settings(ctx); lost != nil {
				partial = strings.Trim(partial+"; "+lost.Error(), "; ")
			}
		}
		return partial, err
	case estate.HealthItems:
		r.Health, partial, err = c.Health(ctx)
		return partial, err
	}
	s, err := c.system(ctx)
	if err != nil {
		return "", c.wrap("reading the system", err)
	}
	r.Hardware, r.BMC.Power, r.BMC.BootOnce = s.hardware(), s.PowerState, s.Boot.once()
	if r.BMC.Drives, r.BMC.Media, err = c.inserted(ctx, s); err != nil {
		return "", c.wrap("reading its virtual drives", err)
	}
	tasks, err := c.Tasks(ctx)
	if err != nil {
		return "", err
	}
	for _, t := range tasks {
		r.BMC.Tasks = append(r.BMC.Tasks, t.ID)
		if t.State == connector.TaskRuns {
			r.BMC.Waiting = append(r.BMC.Waiting, estate.BMCTask{ID: t.ID, Says: t.Says, Since: t.Since})
		}
	}
	r.BMC.Reset, err = c.Started(ctx)
	return "", err
}

// maxImage is the largest image that is given to a BMC, in bytes. A larger one is not cut: it is not given at all.
const maxImage = 512 << 20

// Flash gives the BMC the image that the order carries, and returns the task that it begins with it.
func (c *Client) Flash(ctx context.Context, o connector.Order) (connector.Receipt, error) {
	image, err := io.ReadAll(io.LimitReader(o.Payload, maxImage+1))
	if err == nil && len(image) > maxImage {
		err = fmt.Errorf("%s is larger than %d MiB, and no image for the BMC of %s", o.Change.File,
			maxImage>>20, c.host)
	}
	if err != nil {
		return connector.Receipt{}, err
	}
	id, err := c.Update(ctx, o, image)
	return connector.Receipt{Task: id}, err
}

// Trace says what the BMC knows of a task: the one with that id, or, where none is known, the newest that is not among
// those that it listed before.
func (c *Client) Trace(ctx context.Context, id string, before []string) act.Trace {
	if id != "" {
		t, err := c.Task(ctx, id)
		switch {
		case errors.Is(err, connector.ErrNoTask):
			return act.Trace{}
		case err != nil:
			return act.Trace{Unasked: err.Error()}
		}
		return t.Trace()
	}
	all, err := c.Tasks(ctx)
	if err != nil {
		return act.Trace{Unasked: err.Error()}
	}
	all = slices.DeleteFunc(all, func(t connector.Task) bool { return slices.Contains(before, t.ID) })
	if len(all) == 0 {
		return act.Trace{}
	}
	return all[len(all)-1].Trace()
}
