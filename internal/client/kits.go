package client

import (
	"context"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"net/http"

	"victualler/internal/api"
)

// RegisterKit registers a version of a kit. The signature is what was written beside the archive;
// nil is none.
func (c *Client) RegisterKit(ctx context.Context, archive, signature []byte, note func(string)) (api.Kit, error) {
	var k api.Kit
	return k, c.Do(ctx, Call{Method: http.MethodPut, Path: fmt.Sprintf("/kit-archives/%x", sha256.Sum256(archive)),
		content: archive, signature: base64.StdEncoding.EncodeToString(signature), Note: note}, &k)
}
