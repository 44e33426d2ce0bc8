// Package client calls the API of a service. The command line uses it, and
// any Go program can.
//
//	c := client.New("http://127.0.0.1:7437", token, nil)
//	run, err := c.StartRun(ctx, resource.NewRun{VolumeID: 1, Plan: plan})
//	err = c.Watch(ctx, run.ID, client.Watcher{Point: func(p resource.Point) { … }})
package client

import (
	"bufio"
	"bytes"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"patientheron/core/mistake"
	"patientheron/core/plan"
	"patientheron/resource"
)

// Problem is an error answer of the service (RFC 9457). Callers find it with
// errors.As.
type Problem struct {
	Type   string `json:"type"`
	Status int    `json:"status"`
	Title  string `json:"title"`
	Detail string `json:"detail"`
}

func (p *Problem) Error() string { return p.Detail }

// IsProblem reports whether a call was answered with a problem of a kind, such as
// resource.ProblemTaken.
func IsProblem(err error, kind string) bool {
	var p *Problem
	return errors.As(err, &p) && p.Type == resource.ProblemType(kind)
}

// ErrUnreachable is wrapped when no service answers at the address.
var ErrUnreachable = errors.New("the service cannot be reached")

// Client calls one service. It is safe for concurrent use.
type Client struct {
	// Unreadable is told of records that the service keeps and cannot read, when
	// it is asked for a list with them; nil for nobody.
	Unreadable func(resource.Unreadable)

	base, token string
	place       string // as people are told it
	private     bool   // over a connection that nobody else can make
	http        *http.Client
	reached     reached
}

// New makes a client for the service at base, such as
// "http://127.0.0.1:7437". A nil HTTP client means a plain one.
func New(base, token string, h *http.Client) *Client {
	base = strings.TrimSuffix(base, "/")
	c := &Client{base: base, place: base, token: token, http: h}
	if h == nil {
		c.http = &http.Client{Transport: c.transport(), CheckRedirect: noRedirect}
	}
	return c
}

// Over makes a client of a service that dial leads to, over a connection that nobody else can
// make: it presents no token. The place is what people are told of where that is.
func Over(place string, dial func(ctx context.Context, network, address string) (net.Conn, error)) *Client {
	return &Client{base: "http://localhost", place: place, private: true, http: &http.Client{Transport: &http.Transport{DialContext: dial}, CheckRedirect: noRedirect}}
}

// unreachable tells where no service answers, and why.
func (c *Client) unreachable(err error) error {
	var of *url.Error
	if errors.As(err, &of) {
		err = of.Err // not which request it was
	}
	return fmt.Errorf("%w at %s; is it running? (%w)", ErrUnreachable, c.place, mistake.Unreached(c.place, err))
}

// noRedirect: the service sends nobody elsewhere.
func noRedirect(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }

const prefix = "/api/v1"

// tries is how often a call is sent whose answer is lost.
const tries = 3

// start makes a call that makes something. It bears a key, so that it can be sent again when its
// answer is lost, and takes effect once.
func (c *Client) start(ctx context.Context, path string, in, out any) error {
	body, err := encoded(in)
	if err != nil {
		return err
	}
	key := rand.Text()
	for range tries {
		var answer *http.Response
		answer, err = c.sendOnce(ctx, http.MethodPost, path, key, body)
		if err == nil {
			return read(answer, http.MethodPost, path, out)
		}
		var dial *net.OpError
		if !errors.Is(err, ErrUnreachable) || errors.As(err, &dial) && dial.Op == "dial" {
			return err
		}
	}
	return err
}

// encoded is the body of a call; nil for none.
func encoded(in any) (body []byte, err error) {
	if in == nil {
		return nil, nil
	}
	if body, err = json.Marshal(in); err != nil {
		return nil, fmt.Errorf("write the request: %w", err)
	}
	return body, nil
}

// send makes one call and gives back the open answer of a success.
func (c *Client) send(ctx context.Context, method, path string, in any) (*http.Response, error) {
	body, err := encoded(in)
	if err != nil {
		return nil, err
	}
	return c.sendOnce(ctx, method, path, "", body)
}

func (c *Client) sendOnce(ctx context.Context, method, path, key string, body []byte) (*http.Response, error) {
	request, err := http.NewRequestWithContext(ctx, method, c.base+prefix+path, bytes.NewReader(body))
	if err != nil {
		return nil, fmt.Errorf("the address of the service: %w", err)
	}
	if err := c.prove(request, body); err != nil {
		return nil, err
	}
	if body != nil {
		request.Header.Set("Content-Type", "application/json")
	}
	if key != "" {
		request.Header.Set("Idempotency-Key", key)
	}
	answer, err := c.http.Do(request)
	if err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, c.unreachable(err)
	}
	if answer.StatusCode >= http.StatusBadRequest {
		defer answer.Body.Close()
		return nil, readProblem(answer)
	}
	return answer, nil
}

func readProblem(answer *http.Response) error {
	problem := &Problem{Status: answer.StatusCode, Title: answer.Status}
	text, err := io.ReadAll(io.LimitReader(answer.Body, 1<<20))
	if err != nil || json.Unmarshal(text, problem) != nil || problem.Detail == "" {
		problem.Detail = fmt.Sprintf("the service answered %s: %.200s", answer.Status, text)
	}
	return problem
}

// call makes one call and reads its JSON answer into out, unless that is nil.
func (c *Client) call(ctx context.Context, method, path string, in, out any) error {
	answer, err := c.send(ctx, method, path, in)
	if err != nil {
		return err
	}
	return read(answer, method, path, out)
}

// read reads a JSON answer into out, unless that is nil, and closes it.
func read(answer *http.Response, method, path string, out any) error {
	defer answer.Body.Close()
	if out == nil {
		return nil
	}
	if err := json.NewDecoder(answer.Body).Decode(out); err != nil {
		return fmt.Errorf("read the answer of %s %s: %w; is this a Patient Heron service of this version?", method, path, err)
	}
	return nil
}

// listed gets a list, which the answers hold under a name, page by page, and passes on what they
// name beside its records.
func listed[T any](ctx context.Context, c *Client, path, name string) (all []T, err error) {
	for after := int64(0); ; {
		var answer map[string]json.RawMessage
		if err := c.call(ctx, http.MethodGet, path+"?limit=500&after="+number(after), nil, &answer); err != nil {
			return nil, err
		}
		after = 0
		var records []T
		var unreadable []resource.Unreadable
		for member, into := range map[string]any{name: &records, "unreadable": &unreadable, "next": &after} {
			if text, is := answer[member]; is {
				if err := json.Unmarshal(text, into); err != nil {
					return nil, fmt.Errorf("read the %s of the service: %w; is it of this version?", member, err)
				}
			}
		}
		c.unreadable(unreadable)
		if all = append(all, records...); after == 0 {
			return all, nil
		}
	}
}

// unreadable passes on what a list names beside its records.
func (c *Client) unreadable(records []resource.Unreadable) {
	for _, r := range records {
		if c.Unreadable != nil {
			c.Unreadable(r)
		}
	}
}

// About tells what the service is.
func (c *Client) About(ctx context.Context) (about resource.About, err error) {
	return about, c.call(ctx, http.MethodGet, "/about", nil, &about)
}

// Volumes lists all volumes by name.
func (c *Client) Volumes(ctx context.Context) ([]resource.Volume, error) {
	return listed[resource.Volume](ctx, c, "/volumes", "volumes")
}

// AddVolume registers a volume.
func (c *Client) AddVolume(ctx context.Context, v resource.NewVolume) (volume resource.Volume, err error) {
	return volume, c.start(ctx, "/volumes", v, &volume)
}

// KeepArray hands the text of an array file over and gives the locator under
// which it can be registered.
func (c *Client) KeepArray(ctx context.Context, name, text string) (locator string, err error) {
	var kept struct{ Locator string }
	err = c.call(ctx, http.MethodPut, "/arrays/"+url.PathEscape(name), map[string]string{"text": text}, &kept)
	return kept.Locator, err
}

// GiveConsent agrees that what a registered file or device holds may be lost.
func (c *Client) GiveConsent(ctx context.Context, volume int64, consent resource.ConsentToWrite) (v resource.Volume, err error) {
	return v, c.call(ctx, http.MethodPut, "/volumes/"+number(volume)+"/consent", consent, &v)
}

// WithdrawConsent takes consent to overwrite back.
func (c *Client) WithdrawConsent(ctx context.Context, volume int64) error {
	return c.call(ctx, http.MethodDelete, "/volumes/"+number(volume)+"/consent", nil, nil)
}

// RemoveVolume removes a volume; its runs stay.
func (c *Client) RemoveVolume(ctx context.Context, id int64) error {
	return c.call(ctx, http.MethodDelete, "/volumes/"+number(id), nil, nil)
}

// Leftovers lists the test files that were left behind.
func (c *Client) Leftovers(ctx context.Context) ([]resource.LeftBehind, error) {
	return listed[resource.LeftBehind](ctx, c, "/leftovers", "files")
}

// RemoveLeftover removes a test file that was left behind.
func (c *Client) RemoveLeftover(ctx context.Context, id int64) error {
	return c.call(ctx, http.MethodDelete, "/leftovers/"+number(id), nil, nil)
}

// Estimate tells what a plan would take.
func (c *Client) Estimate(ctx context.Context, p plan.Plan) (estimate plan.Estimate, err error) {
	return estimate, c.call(ctx, http.MethodPost, "/estimates", p, &estimate)
}

// ReadPlan reads the text of a plan file.
func (c *Client) ReadPlan(ctx context.Context, text string) (p plan.Plan, estimate plan.Estimate, err error) {
	var answer struct {
		Plan     plan.Plan
		Estimate plan.Estimate
	}
	err = c.call(ctx, http.MethodPost, "/plans", map[string]string{"text": text}, &answer)
	return answer.Plan, answer.Estimate, err
}

// RunPage is a page of runs, newest first.
type RunPage struct {
	Runs       []resource.Run        `json:"runs"`
	Total      int                   `json:"total"`
	Next       int64                 `json:"next,omitempty"` // the last of them, where there are older ones
	Unreadable []resource.Unreadable `json:"unreadable,omitempty"`
}

// Runs lists at most limit runs, newest first, from the one after the run with a number in that
// order, or from the newest for zero.
func (c *Client) Runs(ctx context.Context, after int64, limit int) (page RunPage, err error) {
	query := url.Values{"limit": {strconv.Itoa(limit)}, "after": {number(after)}}
	err = c.call(ctx, http.MethodGet, "/runs?"+query.Encode(), nil, &page)
	c.unreadable(page.Unreadable)
	return page, err
}

// StartRun starts a run, after those that wait already.
func (c *Client) StartRun(ctx context.Context, n resource.NewRun) (run resource.Run, err error) {
	return run, c.start(ctx, "/runs", n, &run)
}

// Races tells who was ahead, of a run that was made as a race: in all of its races, or in
// that at a position.
func (c *Client) Races(ctx context.Context, id int64, position int) (races resource.Races, err error) {
	return races, c.call(ctx, http.MethodGet, "/runs/"+number(id)+"/races?position="+strconv.Itoa(position), nil, &races)
}

// Run gives one run with its measurements.
func (c *Client) Run(ctx context.Context, id int64) (detail resource.RunDetail, err error) {
	err = c.call(ctx, http.MethodGet, "/runs/"+number(id), nil, &detail)
	c.unreadable(detail.Unreadable)
	return detail, err
}

// StopRun stops a run, at once or after the measurement under way.
func (c *Client) StopRun(ctx context.Context, id int64, afterMeasurement bool) error {
	return c.call(ctx, http.MethodPost, "/runs/"+number(id)+"/stop", map[string]bool{"afterMeasurement": afterMeasurement}, nil)
}

// JudgeRun judges what a run measured anew.
func (c *Client) JudgeRun(ctx context.Context, id int64) (detail resource.RunDetail, err error) {
	err = c.call(ctx, http.MethodPost, "/runs/"+number(id)+"/judge", nil, &detail)
	return detail, err
}

// RemoveRun deletes a run that has ended, with all its results.
func (c *Client) RemoveRun(ctx context.Context, id int64) error {
	return c.call(ctx, http.MethodDelete, "/runs/"+number(id), nil, nil)
}

// Series gives the intervals of a measurement.
func (c *Client) Series(ctx context.Context, measurement int64) (series resource.Series, err error) {
	for from := 0; ; {
		var page resource.Series
		if err := c.call(ctx, http.MethodGet, "/measurements/"+number(measurement)+"/series?from="+strconv.Itoa(from), nil, &page); err != nil {
			return series, err
		}
		page.Intervals = append(series.Intervals, page.Intervals...)
		from, series = page.NextFrom, page
		if from == 0 {
			return series, nil
		}
	}
}

// Latency gives the latency distribution of a measurement, with perDecade
// buckets for each factor of ten, or all as recorded at 0.
func (c *Client) Latency(ctx context.Context, measurement int64, perDecade int) (latency resource.Distribution, err error) {
	return latency, c.call(ctx, http.MethodGet, "/measurements/"+number(measurement)+"/latency?perDecade="+strconv.Itoa(perDecade), nil, &latency)
}

// Export writes a whole run to w: format "json", or "csv" with the table
// "summary", "series" or "latency".
func (c *Client) Export(ctx context.Context, id int64, format, table string, w io.Writer) error {
	query := url.Values{"format": {format}, "table": {table}}
	answer, err := c.send(ctx, http.MethodGet, "/runs/"+number(id)+"/export?"+query.Encode(), nil)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	if _, err := io.Copy(w, answer.Body); err != nil {
		return fmt.Errorf("read the export of run %d: %w", id, err)
	}
	return nil
}

// Watcher is told what happens to a run. Functions that are nil are not
// called.
type Watcher struct {
	Run         func(resource.Run)
	Measurement func(resource.Measurement)
	Marker      func(resource.Marker)
	Point       func(resource.Point)
}

// Watch tells a run's present state and then what happens, until the run has
// ended. When the feed breaks off before that, it begins again.
func (c *Client) Watch(ctx context.Context, id int64, w Watcher) error {
	for {
		final, err := c.watchOnce(ctx, id, w)
		if final || err != nil {
			return err
		}
	}
}

func (c *Client) watchOnce(ctx context.Context, id int64, w Watcher) (final bool, err error) {
	if _, err := c.Run(ctx, id); err != nil { // says clearly when there is no such run
		return false, err
	}
	answer, err := c.send(ctx, http.MethodGet, "/runs/"+number(id)+"/events?points="+strconv.FormatBool(w.Point != nil), nil)
	if err != nil {
		return false, err
	}
	defer answer.Body.Close()
	lines := bufio.NewScanner(answer.Body)
	lines.Buffer(nil, 4<<20)
	event := ""
	for lines.Scan() {
		if name, ok := strings.CutPrefix(lines.Text(), "event: "); ok {
			event = name
		}
		data, ok := bytes.CutPrefix(lines.Bytes(), []byte("data: "))
		if !ok {
			continue
		}
		ended, err := w.tell(event, data)
		if err != nil {
			return false, err
		}
		final = final || ended
	}
	return final, ctx.Err()
}

// tell passes one event on and reports whether it was the end of the run.
func (w Watcher) tell(event string, data []byte) (final bool, err error) {
	switch event {
	case "run":
		run, err := pass(data, w.Run)
		return run.Status.Final(), err
	case "measurement":
		_, err = pass(data, w.Measurement)
	case "marker":
		_, err = pass(data, w.Marker)
	case "point":
		_, err = pass(data, w.Point)
	}
	return false, err
}

func pass[T any](data []byte, to func(T)) (value T, err error) {
	if err := json.Unmarshal(data, &value); err != nil {
		return value, fmt.Errorf("read an event of the service: %w", err)
	}
	if to != nil {
		to(value)
	}
	return value, nil
}

func number(id int64) string { return strconv.FormatInt(id, 10) }
