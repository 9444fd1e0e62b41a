package usecase_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/internal/hosting/refusal"
	"victualler/internal/service/usecase"
)

func TestRefusalIn(t *testing.T) {
	of := func(code string) error { return fmt.Errorf("load: %w", &pgconn.PgError{Code: code}) }
	_, unreached := pgx.Connect(t.Context(), "postgres://nobody@127.0.0.1:1/none")
	require.Error(t, unreached)
	for name, c := range map[string]struct {
		err  error
		want refusal.Kind
	}{
		"a refusal":                        {refusal.New(refusal.InUse, "in use"), refusal.InUse},
		"nobody listens there":             {unreached, refusal.DatabaseUnreachable},
		"stopped by an operator":           {of("57P01"), refusal.DatabaseUnreachable},
		"starting up":                      {of("57P03"), refusal.DatabaseUnreachable},
		"a standby, which changes nothing": {of("25006"), refusal.DatabaseUnreachable},
		"cut off in the middle":            {fmt.Errorf("read: %w", io.ErrUnexpectedEOF), refusal.DatabaseUnreachable},
		"a statement that is wrong":        {of("42601"), ""},
		"given up":                         {context.Canceled, ""},
		"a fault":                          {errors.New("oops"), ""},
	} {
		t.Run(name, func(t *testing.T) {
			r := usecase.RefusalIn(c.err)
			if c.want == "" {
				assert.Nil(t, r)
				return
			}
			require.NotNil(t, r)
			assert.Equal(t, c.want, r.Kind)
		})
	}
}
