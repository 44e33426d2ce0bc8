package client

import (
	"context"
	"io"
	"net/http"

	"patientheron/core/need"
	"patientheron/core/plan"
	"patientheron/resource"
)

// Needs lists all kept need sheets by name.
func (c *Client) Needs(ctx context.Context) ([]resource.NeedSheet, error) {
	return listed[resource.NeedSheet](ctx, c, "/needs", "needs")
}

// Need gives a kept need sheet.
func (c *Client) Need(ctx context.Context, id int64) (kept resource.NeedSheet, err error) {
	return kept, c.call(ctx, http.MethodGet, "/needs/"+number(id), nil, &kept)
}

// KeepNeed keeps a need sheet under its name.
func (c *Client) KeepNeed(ctx context.Context, text string) (kept resource.NeedSheet, err error) {
	return kept, c.start(ctx, "/needs", resource.NewNeed{Text: text}, &kept)
}

// ChangeNeed puts another sheet in the place of a kept one.
func (c *Client) ChangeNeed(ctx context.Context, id int64, text string) (kept resource.NeedSheet, err error) {
	return kept, c.call(ctx, http.MethodPut, "/needs/"+number(id), resource.NewNeed{Text: text}, &kept)
}

// RemoveNeed removes a need sheet; what was measured stays.
func (c *Client) RemoveNeed(ctx context.Context, id int64) error {
	return c.call(ctx, http.MethodDelete, "/needs/"+number(id), nil, nil)
}

// CheckNeed reads a need sheet and says what it asks for.
func (c *Client) CheckNeed(ctx context.Context, text string) (n need.Need, demands []need.Demand, err error) {
	var checked struct {
		Need    need.Need
		Demands []need.Demand
	}
	err = c.call(ctx, http.MethodPost, "/needs/check", resource.NewNeed{Text: text}, &checked)
	return checked.Need, checked.Demands, err
}

// Judge judges setups by needs.
func (c *Client) Judge(ctx context.Context, asked resource.NewVerdicts) (v resource.Verdicts, err error) {
	return v, c.call(ctx, http.MethodPost, "/needs/judge", asked, &v)
}

// ReportVerdicts writes how setups stand to needs as one self-contained page.
func (c *Client) ReportVerdicts(ctx context.Context, asked resource.NewVerdicts, w io.Writer) error {
	return c.page(ctx, http.MethodPost, "/needs/report", asked, w)
}

// Needed is what has to be measured on a volume to judge it by a need.
type Needed struct {
	Plan    plan.Plan
	There   []string // uses that were measured
	Without []string // uses that name a stage and no load
}

// Needed asks what has to be measured on a volume.
func (c *Client) Needed(ctx context.Context, volume int64, asked resource.NewNeeded) (needed Needed, err error) {
	return needed, c.call(ctx, http.MethodPost, "/volumes/"+number(volume)+"/needed", asked, &needed)
}
