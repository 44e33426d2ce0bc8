package client

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"

	"patientheron/core/efficiency"
	"patientheron/core/quantity"
	"patientheron/core/workload"
	"patientheron/resource"
)

// Asked is what a load to come will do, for a look.
type Asked struct {
	Span    quantity.Bytes
	Writes  bool
	Cached  bool
	Address string           // of the storage, to try packets to
	Timeout quantity.Seconds // that the look may take; 0 for a second and a half
}

// Look looks at a locator without registering it.
func (c *Client) Look(ctx context.Context, locator string, asked Asked) (look resource.Look, err error) {
	query := url.Values{"locator": {locator}}
	if asked.Span > 0 {
		query.Set("span", asked.Span.Full())
	}
	for name, set := range map[string]bool{"writes": asked.Writes, "cached": asked.Cached} {
		if set {
			query.Set(name, "true")
		}
	}
	if asked.Address != "" {
		query.Set("address", asked.Address)
	}
	if asked.Timeout > 0 {
		query.Set("timeout", strconv.FormatFloat(float64(asked.Timeout), 'f', -1, 64))
	}
	return look, c.call(ctx, http.MethodGet, "/look?"+query.Encode(), nil, &look)
}

// Setups lists the versions of a volume's setup, newest first.
func (c *Client) Setups(ctx context.Context, volume int64) ([]resource.SetupVersion, error) {
	return listed[resource.SetupVersion](ctx, c, "/volumes/"+number(volume)+"/setups", "versions")
}

// TellSetup tells what stands behind a volume.
func (c *Client) TellSetup(ctx context.Context, volume int64, told resource.ToldSetup) (version resource.SetupVersion, err error) {
	return version, c.call(ctx, http.MethodPut, "/volumes/"+number(volume)+"/setup", told, &version)
}

// Compare compares candidates with a baseline.
func (c *Client) Compare(ctx context.Context, n resource.NewComparison) (compared resource.Compared, err error) {
	if n.Name == "" { // nothing is kept
		return compared, c.call(ctx, http.MethodPost, "/comparisons", n, &compared)
	}
	return compared, c.start(ctx, "/comparisons", n, &compared)
}

// Comparisons lists all kept comparisons, newest first.
func (c *Client) Comparisons(ctx context.Context) ([]resource.Comparison, error) {
	return listed[resource.Comparison](ctx, c, "/comparisons", "comparisons")
}

// Comparison gives a kept comparison with what comes of it.
func (c *Client) Comparison(ctx context.Context, id int64) (compared resource.Compared, err error) {
	return compared, c.call(ctx, http.MethodGet, "/comparisons/"+number(id), nil, &compared)
}

// RemoveComparison removes a comparison; its runs stay.
func (c *Client) RemoveComparison(ctx context.Context, id int64) error {
	return c.call(ctx, http.MethodDelete, "/comparisons/"+number(id), nil, nil)
}

// Shape tells what the repeats and sweeps of a run show together, and, unless it
// is zero, where p99 stays within the wanted latency.
func (c *Client) Shape(ctx context.Context, run int64, p99 quantity.Seconds) (shape resource.Shape, err error) {
	return shape, c.call(ctx, http.MethodGet, "/runs/"+number(run)+"/shape?p99="+strconv.FormatFloat(float64(p99), 'f', -1, 64), nil, &shape)
}

// Adjustments lists what an experiment can try on a volume under a load.
func (c *Client) Adjustments(ctx context.Context, volume int64, load workload.Spec) ([]resource.Adjustment, error) {
	var list struct{ Adjustments []resource.Adjustment }
	return list.Adjustments, c.call(ctx, http.MethodPost, "/volumes/"+number(volume)+"/adjustments", map[string]workload.Spec{"load": load}, &list)
}

// Reach tells how far each measurement of a run came against its ceilings.
func (c *Client) Reach(ctx context.Context, run int64) ([]resource.Reach, error) {
	var list struct{ Reached []resource.Reach }
	return list.Reached, c.call(ctx, http.MethodGet, "/runs/"+number(run)+"/reach", nil, &list)
}

// Mark sets a marker at the present moment of a run.
func (c *Client) Mark(ctx context.Context, run int64, name string) (marker resource.Marker, err error) {
	return marker, c.start(ctx, "/runs/"+number(run)+"/markers", map[string]string{"name": name}, &marker)
}

// Inject injects a fault into the simulated array that a run measures, and
// gives the marker that is set for it.
func (c *Client) Inject(ctx context.Context, run int64, fault string) (marker resource.Marker, err error) {
	return marker, c.start(ctx, "/runs/"+number(run)+"/faults", map[string]string{"fault": fault}, &marker)
}

// Split is a measurement before and after a marker, in words.
type Split struct {
	Marker resource.Marker
	Words  string
}

// SplitAt compares a measurement before and after a marker.
func (c *Client) SplitAt(ctx context.Context, m resource.Marker) (split Split, err error) {
	return split, c.call(ctx, http.MethodGet, "/runs/"+number(m.RunID)+"/markers/"+number(m.ID), nil, &split)
}

// ReportRun writes a run as one self-contained page.
func (c *Client) ReportRun(ctx context.Context, run int64, w io.Writer) error {
	return c.page(ctx, http.MethodGet, "/runs/"+number(run)+"/report", nil, w)
}

// ReportComparison writes a comparison as one self-contained page.
func (c *Client) ReportComparison(ctx context.Context, n resource.NewComparison, w io.Writer) error {
	return c.page(ctx, http.MethodPost, "/comparisons/report", n, w)
}

// ReportKept writes a kept comparison as one self-contained page.
func (c *Client) ReportKept(ctx context.Context, id int64, w io.Writer) error {
	return c.page(ctx, http.MethodGet, "/comparisons/"+number(id)+"/report", nil, w)
}

func (c *Client) page(ctx context.Context, method, path string, in any, w io.Writer) error {
	answer, err := c.send(ctx, method, path, in)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	if _, err := io.Copy(w, answer.Body); err != nil {
		return fmt.Errorf("read the report: %w", err)
	}
	return nil
}

// Efficiency sets an array against its members.
func (c *Client) Efficiency(ctx context.Context, asked resource.NewEfficiency) (r efficiency.Efficiency, err error) {
	return r, c.call(ctx, http.MethodPost, "/efficiency", asked, &r)
}
