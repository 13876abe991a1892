package sim_test

import (
	"bytes"
	"context"
	"crypto/tls"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptrace"
	"strings"
	"testing"
	"time"

	"yareharbour/sim"
)

// asker asks a BMC as a client would that is not ours.
type asker struct {
	t    *testing.T
	at   string
	http http.Client
}

func newAsker(t *testing.T, a sim.Address, host string) asker {
	return asker{t, "https://" + a.BMC[host],
		http.Client{Timeout: 10 * time.Second,
			Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}}
}

func (a asker) ask(method, path, body string, head map[string]string) (*http.Response, map[string]any) {
	a.t.Helper()
	req, err := http.NewRequestWithContext(a.t.Context(), method, a.at+path, strings.NewReader(body))
	if err != nil {
		a.t.Fatal(err)
	}
	for k, v := range head {
		req.Header.Set(k, v)
	}
	resp, err := a.http.Do(req)
	if err != nil {
		a.t.Fatal(err)
	}
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	if err != nil {
		a.t.Fatal(err)
	}
	var doc map[string]any
	if len(text) > 0 {
		if err := json.Unmarshal(text, &doc); err != nil {
			a.t.Fatalf("%s %s: %q", method, path, text)
		}
	}
	return resp, doc
}

// messageID is the first message of an error, which must have the form of DSP0266.
func messageID(t *testing.T, doc map[string]any) string {
	t.Helper()
	e, _ := doc["error"].(map[string]any)
	all, _ := e["@Message.ExtendedInfo"].([]any)
	if len(all) == 0 || e["code"] == "" || e["message"] == "" {
		t.Errorf("no error of the standard's form: %v", doc)
		return ""
	}
	return fmt.Sprint(all[0].(map[string]any)["MessageId"])
}

func TestTheBMCKeepsToTheStandard(t *testing.T) {
	t.Parallel()
	a := serve(t, 100)
	c := newAsker(t, a, "heron")
	resp, _ := c.ask("GET", "/redfish/v1/Systems/1", "", nil)
	if resp.StatusCode != 401 || resp.Header.Get("WWW-Authenticate") == "" {
		t.Errorf("a stranger: %s", resp.Status)
	}
	// Eight sessions and no more; one that is deleted makes room.
	login := fmt.Sprintf(`{"UserName":%q,"Password":%q}`, sim.User, a.Secret)
	token, last := "", ""
	for range 8 {
		resp, doc := c.ask("POST", "/redfish/v1/SessionService/Sessions", login, nil)
		if token, last = resp.Header.Get("X-Auth-Token"), resp.Header.Get("Location"); resp.StatusCode != 201 ||
			token == "" || doc["@odata.id"] != last {
			t.Fatalf("%s %v", resp.Status, doc)
		}
	}
	resp, doc := c.ask("POST", "/redfish/v1/SessionService/Sessions", login, nil)
	if resp.StatusCode != 503 || resp.Header.Get("Retry-After") == "" ||
		!strings.HasSuffix(messageID(t, doc), "SessionLimitExceeded") {
		t.Errorf("the ninth session: %s %v", resp.Status, doc)
	}
	known := map[string]string{"X-Auth-Token": token}
	if resp, _ = c.ask("DELETE", strings.Replace(last, "/8", "/1", 1), "", known); resp.StatusCode != 204 {
		t.Errorf("deleting a session: %s", resp.Status)
	}
	if resp, _ = c.ask("POST", "/redfish/v1/SessionService/Sessions", login, nil); resp.StatusCode != 201 {
		t.Errorf("after one was deleted: %s", resp.Status)
	}
	// Entity tags, allowed methods, errors.
	resp, _ = c.ask("GET", "/redfish/v1/Systems/1", "", known)
	tag := resp.Header.Get("ETag")
	if resp.StatusCode != 200 || tag == "" || resp.Header.Get("Allow") != "GET, HEAD, PATCH" ||
		resp.Header.Get("OData-Version") != "4.0" {
		t.Errorf("%s %v", resp.Status, resp.Header)
	}
	if resp, _ = c.ask("GET", "/redfish/v1/Systems/1", "",
		map[string]string{"X-Auth-Token": token, "If-None-Match": tag}); resp.StatusCode != 304 {
		t.Errorf("what did not change: %s", resp.Status)
	}
	for _, x := range []struct {
		method, path, body string
		code               int
		id, allow          string
	}{
		{"POST", "/redfish/v1/Systems/1", "{}", 405, "OperationNotAllowed", "GET, HEAD, PATCH"},
		{"GET", "/redfish/v1/Systems/2", "", 404, "ResourceMissingAtURI", ""},
		{"GET", "/redfish/v1/UpdateService/FirmwareInventory/none", "", 404, "ResourceMissingAtURI", "GET, HEAD"},
		{"DELETE", "/redfish/v1/SessionService/Sessions/99", "", 404, "ResourceMissingAtURI", "DELETE"},
		{"POST", "/redfish/v1/Systems/1/Actions/ComputerSystem.Reset", `{"ResetType":"Nudge"}`, 400,
			"ActionParameterNotSupported", "POST"},
	} {
		resp, doc := c.ask(x.method, x.path, x.body, known)
		if resp.StatusCode != x.code || resp.Header.Get("Allow") != x.allow ||
			!strings.HasSuffix(messageID(t, doc), "."+x.id) {
			t.Errorf("%s %s: %s, Allow %q, %v", x.method, x.path, resp.Status, resp.Header.Get("Allow"), doc)
		}
	}
	// An empty collection has members all the same: none.
	if _, doc = c.ask("GET", "/redfish/v1/TaskService/Tasks", "", known); doc["Members"] == nil ||
		doc["Members@odata.count"] != 0.0 {
		t.Errorf("no task: %v", doc)
	}
	// Every link that an inventory item has leads somewhere.
	_, doc = c.ask("GET", "/redfish/v1/UpdateService/FirmwareInventory", "", known)
	for _, m := range doc["Members"].([]any) {
		_, item := c.ask("GET", m.(map[string]any)["@odata.id"].(string), "", known)
		for _, r := range item["RelatedItem"].([]any) {
			if resp, _ := c.ask("GET", r.(map[string]any)["@odata.id"].(string), "", known); resp.StatusCode != 200 {
				t.Errorf("%v: %s", r, resp.Status)
			}
		}
	}
}

// While a BMC fetches an image from a server that is slow, it answers everybody else, and so does the whole estate.
func TestAFetchHoldsNobodyUp(t *testing.T) {
	t.Parallel()
	a := serve(t, 100)
	c := newAsker(t, a, "heron")
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	begun, release := make(chan struct{}), make(chan struct{})
	go func() {
		_ = http.Serve(l, http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			close(begun)
			<-release
			_, _ = io.Copy(w, bytes.NewReader([]byte("no image at all")))
		}))
	}()
	defer l.Close()
	basic, err := http.NewRequestWithContext(context.Background(), "POST",
		c.at+"/redfish/v1/UpdateService/Actions/UpdateService.SimpleUpdate",
		strings.NewReader(fmt.Sprintf(`{"ImageURI":"http://%s/x"}`, l.Addr())))
	if err != nil {
		t.Fatal(err)
	}
	basic.SetBasicAuth(sim.User, a.Secret)
	done := make(chan int, 1)
	go func() {
		resp, err := c.http.Do(basic)
		if err != nil {
			done <- 0
			return
		}
		resp.Body.Close()
		done <- resp.StatusCode
	}()
	<-begun
	for _, host := range []string{"heron", "ibis"} {
		if resp, _ := newAsker(t, a, host).ask("GET", "/redfish/v1/", "", nil); resp.StatusCode != 200 {
			t.Errorf("%s meanwhile: %s", host, resp.Status)
		}
	}
	close(release)
	if code := <-done; code != 400 {
		t.Errorf("what is no image was answered with %d", code)
	}
}

// No connection outlives a BMC's restart, not one that was idle meanwhile either: whoever asks again sees the certificate
// that the BMC has now.
func TestNoConnectionOutlivesARestart(t *testing.T) {
	t.Parallel()
	a := serve(t, 1000)
	asking, idle := newAsker(t, a, "heron"), newAsker(t, a, "heron")
	get := func(c asker) (reused bool, status string) {
		ctx := httptrace.WithClientTrace(t.Context(), &httptrace.ClientTrace{GotConn: func(i httptrace.GotConnInfo) { reused = i.Reused }})
		r, err := http.NewRequestWithContext(ctx, "GET", c.at+"/redfish/v1/", nil)
		if err != nil {
			t.Fatal(err)
		}
		resp, err := c.http.Do(r)
		if err != nil {
			return reused, err.Error()
		}
		_, _ = io.Copy(io.Discard, resp.Body) // so that the connection is used again
		resp.Body.Close()
		return reused, resp.Status
	}
	for i := range 2 {
		if reused, status := get(idle); status != "200 OK" || reused != (i == 1) {
			t.Fatalf("%d: reused %v, %s", i, reused, status)
		}
	}
	login := map[string]string{"Authorization": "Basic " + base64.StdEncoding.EncodeToString([]byte(sim.User+":"+a.Secret))}
	if resp, doc := asking.ask("POST", "/redfish/v1/Managers/bmc/Actions/Manager.Reset", `{"ResetType":"GracefulRestart"}`, login); resp.StatusCode != 204 {
		t.Fatal(resp.Status, doc)
	}
	for start := time.Now(); ; time.Sleep(5 * time.Millisecond) {
		if _, status := get(asking); status == "200 OK" {
			break
		}
		if time.Since(start) > 20*time.Second {
			t.Fatal("it never came back")
		}
	}
	if reused, status := get(idle); reused || status != "200 OK" {
		t.Errorf("a connection of before the restart goes on: %s", status)
	}
}
