package client

import (
	"context"
	"net/http"

	"patientheron/resource"
)

// Twins lists all twins, newest first, without what is known of them.
func (c *Client) Twins(ctx context.Context) ([]resource.Twin, error) {
	return listed[resource.Twin](ctx, c, "/twins", "twins")
}

// Twin gives a twin with what is known of it, and what it predicted.
func (c *Client) Twin(ctx context.Context, id int64) (kept resource.Twin, err error) {
	return kept, c.call(ctx, http.MethodGet, "/twins/"+number(id), nil, &kept)
}

// GuessTwin gives the array file that a fit would begin with.
func (c *Client) GuessTwin(ctx context.Context, volume int64) (text string, err error) {
	var guess struct{ Text string }
	err = c.call(ctx, http.MethodPost, "/twins/guess", map[string]any{"volumeId": volume}, &guess)
	return guess.Text, err
}

// FitTwin begins to fit a twin.
func (c *Client) FitTwin(ctx context.Context, asked resource.NewTwin) (begun resource.Fitting, err error) {
	return begun, c.start(ctx, "/twins", asked, &begun)
}

// Fit gives a fit with how far it is.
func (c *Client) Fit(ctx context.Context, id int64) (fit resource.Fitting, err error) {
	return fit, c.call(ctx, http.MethodGet, "/fits/"+number(id), nil, &fit)
}

// StopFit stops a fit; nothing is kept of it.
func (c *Client) StopFit(ctx context.Context, id int64) error {
	return c.call(ctx, http.MethodPost, "/fits/"+number(id)+"/stop", nil, nil)
}

// RemoveTwin removes a twin and what it predicted; what was measured stays.
func (c *Client) RemoveTwin(ctx context.Context, id int64) error {
	return c.call(ctx, http.MethodDelete, "/twins/"+number(id), nil, nil)
}

// Predict predicts with a twin, and keeps it.
func (c *Client) Predict(ctx context.Context, twin int64, asked resource.NewPrediction) (made resource.Prediction, err error) {
	return made, c.start(ctx, "/twins/"+number(twin)+"/predictions", asked, &made)
}

// RemovePrediction removes what a twin predicted.
func (c *Client) RemovePrediction(ctx context.Context, twin, id int64) error {
	return c.call(ctx, http.MethodDelete, "/twins/"+number(twin)+"/predictions/"+number(id), nil, nil)
}
