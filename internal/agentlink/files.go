package agentlink

import (
	"context"
	"io"
	"time"
)

// HomeFile names a file in the home of an account.
type HomeFile struct {
	AccountID  int64  `json:"account_id"`
	SignInName string `json:"sign_in_name"`
	// Path is relative to the home.
	Path string `json:"path"`
	// Offset is how many bytes are left out at its beginning.
	Offset int64 `json:"offset,omitempty"`
	// As is what the file has to be still; the zero value is anything.
	As FileState `json:"as,omitzero"`
}

// FileState is what is known of a file: its size in bytes, and when it was changed last.
type FileState struct {
	Size     int64     `json:"size"`
	Modified time.Time `json:"modified"`
}

// StatHomeFile asks what a file is, as the account's user sees it.
func (c *Client) StatHomeFile(ctx context.Context, f HomeFile) (FileState, error) {
	var told FileState
	return told, c.call(ctx, "/v1/home-file/stat", f, &told)
}

// OpenHomeFile opens a file. The error at the end of reading is io.EOF only if all of it was there.
func (c *Client) OpenHomeFile(ctx context.Context, f HomeFile) (io.ReadCloser, error) {
	return c.open(ctx, "/v1/home-file", f)
}
