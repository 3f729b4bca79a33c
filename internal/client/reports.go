package client

import (
	"context"
	"io"
	"net/http"
	"net/url"

	"ironledger.example/api"
)

// ReportFile has a report made, and streams it in the form asked for; somebody must close it.
func (c *Client) ReportFile(ctx context.Context, p api.ReportControlsParams) (io.ReadCloser, error) {
	query := url.Values{}
	put(query, "from", p.From)
	put(query, "to", p.To)
	put(query, "control", p.Control)
	put(query, "form", p.Form)
	return c.stream(ctx, request{method: http.MethodGet, path: "/api/v1/reports/controls", query: query})
}

// KeptReportFile streams a report that was kept, in the form asked for; somebody must close it.
func (c *Client) KeptReportFile(ctx context.Context, id string, p api.GetReportParams) (io.ReadCloser, error) {
	query := url.Values{}
	put(query, "form", p.Form)
	return c.stream(ctx, request{method: http.MethodGet, path: "/api/v1/reports/kept/" + url.PathEscape(id),
		query: query})
}
