package sim_test

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"yareharbour/connector"
	"yareharbour/connector/redfish"
	"yareharbour/core/act"
	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
	"yareharbour/sim"
	"yareharbour/sim/demo"
)

// serve runs the demo's world on loopback until the test ends.
func serve(t *testing.T, speed float64) sim.Address {
	t.Helper()
	dir := t.TempDir()
	wait, err := sim.Start(t.Context(), sim.Options{Dir: dir, Speed: speed, New: demo.World})
	if err != nil {
		t.Fatal(err)
	}
	a, err := sim.ReadAddress(dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = wait() })
	return a
}

func client(a sim.Address, host string) *redfish.Client {
	return redfish.New(host, redfish.Target{At: a.BMC[host], User: sim.User, Fingerprint: a.Fingerprint}, a.Secret)
}

func image(t *testing.T, ver string, restart catalogue.Restart) []byte {
	t.Helper()
	_, body, err := demo.Payload(catalogue.Release{Component: "fw:lorne-l25", Version: ver, Restart: restart,
		Hardware: []string{"Lorne L25"}})
	if err != nil {
		t.Fatal(err)
	}
	return body
}

func TestInventoryPowerHealth(t *testing.T) {
	t.Parallel()
	a := serve(t, 1)
	c := client(a, "fulmar")
	defer c.Close()
	hw, power, err := c.System(t.Context())
	if err != nil || power != "On" || hw.Model != "Quay 1" || !strings.HasPrefix(hw.Serial, "Q1-") {
		t.Errorf("%+v %q %v", hw, power, err)
	}
	items, _, err := c.Inventory(t.Context())
	if err != nil || len(items) != 7 {
		t.Fatalf("%v %v", items, err)
	}
	found := false
	for _, i := range items {
		found = found || i.Key == "fw:lorne-l25" && i.Device == "slot 2" && i.Version == "7.4.2" &&
			i.Model == "Lorne L25"
	}
	if !found {
		t.Errorf("no adapter in slot 2: %+v", items)
	}
	health, _, err := c.Health(t.Context())
	if err != nil || len(health) != 4 || health[1].OK || health[1].Detail != "no input voltage since 19 Nov" {
		t.Errorf("%+v %v", health, err)
	}
	curlew := client(a, "curlew")
	queue := func() (waits []string) {
		tasks, err := curlew.Tasks(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		for _, x := range tasks {
			if x.State == connector.TaskRuns {
				waits = append(waits, x.ID)
			}
		}
		return waits
	}
	if q := queue(); !slices.Equal(q, []string{"waiting-1", "waiting-2"}) {
		t.Errorf("the forgotten queue of curlew: %v", q)
	}
	for range 2 { // what is gone already is no failure
		if err := curlew.Clear(t.Context(), connector.Order{Act: act.Act{Tasks: []string{"waiting-1"}}}); err != nil {
			t.Error(err)
		}
	}
	if q := queue(); !slices.Equal(q, []string{"waiting-2"}) {
		t.Errorf("after one was cleared: %v", q)
	}
}

// flash is the order to put a file into a device.
func flash(key estate.Key, device, file string) connector.Order {
	return connector.Order{Act: act.Act{Change: &act.Change{Component: key, Device: device, File: file}}}
}

func TestUpdateByPush(t *testing.T) {
	t.Parallel()
	a := serve(t, 2000)
	c := client(a, "jacana")
	defer c.Close()
	id, err := c.Update(t.Context(), flash("fw:lorne-l25", "slot 2", "x.payload"), image(t, "7.4.2", catalogue.HostRestart))
	if err != nil {
		t.Fatal(err)
	}
	for start := time.Now(); ; time.Sleep(5 * time.Millisecond) {
		task, err := c.Task(t.Context(), id)
		if err != nil || time.Since(start) > 30*time.Second {
			t.Fatal(task, err)
		}
		if task.State == connector.TaskDone {
			break
		}
	}
	items, _, err := c.Inventory(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	for _, i := range items {
		if i.Key == "fw:lorne-l25" && i.Device == "slot 2" && (i.Version != "7.4.2" || i.Running != "7.4.0") {
			t.Errorf("installed is not running until the restart: %+v", i)
		}
	}
	if _, err := c.Task(t.Context(), "9999"); err != connector.ErrNoTask {
		t.Errorf("a task that is not there: %v", err)
	}
}

func TestWhatABMCRefuses(t *testing.T) {
	t.Parallel()
	a := serve(t, 1)
	for _, c := range []struct {
		name, says string
		call       func() error
	}{
		{"a wrong password", "the name or the password is wrong", func() error {
			_, _, err := redfish.New("heron",
				redfish.Target{At: a.BMC["heron"], User: sim.User, Fingerprint: a.Fingerprint},
				"guess").System(t.Context())
			return err
		}},
		{"another certificate", "is pinned", func() error {
			_, _, err := redfish.New("heron",
				redfish.Target{At: a.BMC["heron"], User: sim.User, Fingerprint: strings.Repeat("00", 32)},
				a.Secret).System(t.Context())
			return err
		}},
		{"nobody there", "does not answer", func() error {
			_, _, err := redfish.New("heron",
				redfish.Target{At: "127.0.0.1:1", User: sim.User, Fingerprint: a.Fingerprint},
				a.Secret).System(t.Context())
			return err
		}},
		{"an image that is none", "not a payload", func() error {
			_, err := client(a, "heron").Update(t.Context(), flash("fw:lorne-l25", "slot 2", "x"), []byte("noise"))
			return err
		}},
		{"an image for something else", "there is none such", func() error {
			_, err := client(a, "heron").Update(t.Context(), flash("fw:corran-bmc", "", "x"),
				image(t, "1", catalogue.NoRestart))
			return err
		}},
		{"a component that is not there", "knows no such component", func() error {
			_, err := client(a, "heron").Update(t.Context(), flash("fw:nothing", "", "x"), nil)
			return err
		}},
		{"a reset of no kind", "is not one of", func() error { return client(a, "heron").Reset(t.Context(), "Kick") }},
	} {
		if err := c.call(); err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v, want %q", c.name, err, c.says)
		}
	}
}

// A stranger's requests, by hand: what is open without a login, SimpleUpdate with the image fetched by the BMC, and the
// task's monitor.
func TestSimpleUpdateAndMonitor(t *testing.T) {
	t.Parallel()
	a := serve(t, 500)
	h := http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}},
		Timeout: 20 * time.Second}
	ask := func(method, path, body string, login bool) (int, http.Header, map[string]any) {
		t.Helper()
		req, err := http.NewRequest(method, "https://"+a.BMC["jacana"]+path, strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		if login {
			req.SetBasicAuth(sim.User, a.Secret)
		}
		resp, err := h.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		var out map[string]any
		_ = json.NewDecoder(resp.Body).Decode(&out)
		return resp.StatusCode, resp.Header, out
	}
	if code, _, root := ask("GET", "/redfish/v1/", "", false); code != 200 || root["RedfishVersion"] == nil {
		t.Errorf("the service root without a login: %d %v", code, root)
	}
	if code, _, _ := ask("GET", "/redfish/v1/Systems", "", false); code != 401 {
		t.Errorf("systems without a login: %d", code)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	img := image(t, "7.4.2", catalogue.HostRestart)
	go func() {
		_ = http.Serve(l, http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write(img) }))
	}()
	defer l.Close()
	code, head, _ := ask("POST", "/redfish/v1/UpdateService/Actions/UpdateService.SimpleUpdate",
		fmt.Sprintf(`{"ImageURI":"http://%s/x"}`, l.Addr()), true)
	if code != 202 || head.Get("Location") == "" {
		t.Fatalf("SimpleUpdate: %d %v", code, head)
	}
	if code, _, _ := ask("POST", "/redfish/v1/UpdateService/Actions/UpdateService.SimpleUpdate",
		`{"ImageURI":"http://192.0.2.1/x"}`, true); code != 400 {
		t.Errorf("an image from outside loopback: %d", code)
	}
	for start := time.Now(); ; time.Sleep(5 * time.Millisecond) {
		code, _, task := ask("GET", head.Get("Location"), "", true)
		if code == 200 && task["TaskState"] == "Completed" {
			break
		}
		if code != 202 || time.Since(start) > 30*time.Second {
			t.Fatalf("the monitor: %d %v", code, task)
		}
	}
}

// fence_redfish is a client that knows nothing of us.
func TestFenceRedfishWorksWithTheBMC(t *testing.T) {
	t.Parallel()
	fence, err := exec.LookPath("fence_redfish")
	if err != nil {
		t.Skip("no fence_redfish on this machine (Debian's fence-agents has it)")
	}
	a := serve(t, 2000)
	ip, port, _ := net.SplitHostPort(a.BMC["lapwing"])
	do := func(action string) string {
		cmd := exec.Command(fence, "--ip", ip, "--ipport", port, "--username", sim.User, "--password-script",
			script(t, a.Secret), "--ssl-insecure",
			"--systems-uri", "/redfish/v1/Systems/1", "--action", action)
		out, err := cmd.CombinedOutput()
		if err != nil {
			t.Fatalf("fence_redfish %s: %v\n%s", action, err, out)
		}
		return string(out)
	}
	if out := do("status"); !strings.Contains(out, "Status: ON") {
		t.Error(out)
	}
	do("off")
	if _, power, err := client(a, "lapwing").System(t.Context()); err != nil || power != "Off" {
		t.Errorf("after fence_redfish off the power is %q, %v", power, err)
	}
	do("on")
	if _, power, _ := client(a, "lapwing").System(t.Context()); power != "On" {
		t.Errorf("after fence_redfish on the power is %q", power)
	}
}

// script writes a program that prints the secret, so that it never stands in a command line.
func script(t *testing.T, secret string) string {
	t.Helper()
	file := filepath.Join(t.TempDir(), "secret")
	if err := os.WriteFile(file, []byte("#!/bin/sh\necho "+secret+"\n"), 0o700); err != nil {
		t.Fatal(err)
	}
	return file
}

// fwupd's own client reads the inventory. It takes its settings from a configuration file of the machine's, so it runs
// in a mount namespace that has one of its own: the machine's is not touched.
func TestFwupdReadsTheInventory(t *testing.T) {
	t.Parallel()
	tool, err := exec.LookPath("fwupdtool")
	if err != nil || os.Getuid() != 0 {
		t.Skip("no fwupdtool on this machine, or no right to run it (Debian's fwupd has it)")
	}
	a := serve(t, 1)
	conf := filepath.Join(t.TempDir(), "redfish.conf")
	text := fmt.Sprintf("[redfish]\nUri=https://%s\nUsername=%s\nPassword=%s\nCACheck=false\n",
		a.BMC["heron"], sim.User, a.Secret)
	if err := os.WriteFile(conf, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	const apart = `for d in /etc/fwupd /var/lib/fwupd /var/cache/fwupd; do [ ! -d $d ] || mount -t tmpfs none $d || exit 1; done
cp "$1" /etc/fwupd/redfish.conf && exec "$2" --plugins redfish get-devices --json`
	cmd := exec.Command("sh", "-c", apart, "sh", conf, tool)
	cmd.SysProcAttr = &syscall.SysProcAttr{Unshareflags: syscall.CLONE_NEWNS}
	out, err := cmd.Output()
	if err != nil {
		var stderr []byte
		if e, ok := err.(*exec.ExitError); ok {
			stderr = e.Stderr
		}
		t.Skipf("fwupdtool does not run here: %v %s", err, stderr)
	}
	for _, want := range []string{"7.3.1", "4.12.1", "Lorne L25"} {
		if !strings.Contains(string(out), want) {
			t.Errorf("fwupdtool does not see %s:\n%s", want, out)
		}
	}
}

func TestTheWorldOutlivesItsProcess(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	start := func() (sim.Address, func()) {
		t.Helper()
		ctx, cancel := context.WithCancel(t.Context())
		wait, err := sim.Start(ctx, sim.Options{Dir: dir, Speed: 1, New: demo.World})
		if err != nil {
			t.Fatal(err)
		}
		a, err := sim.ReadAddress(dir)
		if err != nil {
			t.Fatal(err)
		}
		return a, func() { cancel(); _ = wait() }
	}
	a, stop := start()
	if err := client(a, "heron").Reset(t.Context(), "ForceOff"); err != nil {
		t.Fatal(err)
	}
	stop()
	b, stop := start()
	defer stop()
	if _, power, err := client(b, "heron").System(t.Context()); err != nil || power != "Off" {
		t.Errorf("after a restart of the simulation the power is %q, %v", power, err)
	}
	if a.Fingerprint != b.Fingerprint || a.Secret == b.Secret {
		t.Error("the certificate must stay and the secret must not")
	}
}

func TestTwoProcessesDoNotSimulateOneEstate(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	wait, err := sim.Start(t.Context(), sim.Options{Dir: dir, Speed: 1, New: demo.World})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = wait() })
	if _, err := sim.Start(t.Context(), sim.Options{Dir: dir, Speed: 1, New: demo.World}); err == nil ||
		!strings.Contains(err.Error(), "another process simulates") {
		t.Error(err)
	}
}

func TestTheHostInterfaceWantsItsSecret(t *testing.T) {
	t.Parallel()
	a := serve(t, 1)
	resp, err := http.Post("http://"+a.Host+"/read", "application/json", strings.NewReader(`{"host":"heron"}`))
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	b, _ := io.ReadAll(resp.Body)
	if resp.StatusCode != 401 || strings.Contains(string(b), "heron") {
		t.Errorf("%s %s", resp.Status, b)
	}
}
