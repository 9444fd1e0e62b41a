package client

import (
	"context"
	"encoding/base64"
	"net/http"
	"net/url"

	"victualler/internal/api"
)

// RegisterKit registers a version of a kit. The signature is what was written beside the archive;
// nil is none.
func (c *Client) RegisterKit(ctx context.Context, name, version string, archive, signature []byte,
	note func(string)) (api.Kit, error) {
	var k api.Kit
	return k, c.Do(ctx, Call{Method: http.MethodPut,
		Path:    "/kits/" + url.PathEscape(name) + "/versions/" + url.PathEscape(version),
		content: archive, signature: base64.StdEncoding.EncodeToString(signature), Note: note}, &k)
}
