package hosting

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"victualler/e2e"
	"victualler/internal/api"
)

// Visitors at 1,000 requests a second, half of them on connections that are kept, lose none while
// sites of the server are changed: every change reloads nginx, and some PHP.
func TestReloadsUnderLoad(t *testing.T) {
	e2e.Shared(t)
	const rate, lasting = 1000, 6 * time.Second
	a := e2e.Opened(t, api.OpenAccount{Domain: "loaded.example", SignInName: "loaded", Server: "fulmar"})
	e2e.Write(t, a, "sites/loaded.example/index.html", "still here")
	e2e.Write(t, a, "sites/loaded.example/script.php", "<?php echo 'still here';")
	to := e2e.Inst.Servers["fulmar"].Address.String() + ":80"
	dial := func(ctx context.Context, network, _ string) (net.Conn, error) {
		return (&net.Dialer{Timeout: 10 * time.Second}).DialContext(ctx, network, to)
	}
	kept := &http.Client{Timeout: 20 * time.Second, Transport: &http.Transport{DialContext: dial,
		MaxIdleConnsPerHost: 50}}
	fresh := &http.Client{Timeout: 20 * time.Second, Transport: &http.Transport{DialContext: dial,
		DisableKeepAlives: true}}
	var sent, lost atomic.Int64
	var mu sync.Mutex
	reasons := map[string]int{}
	ask := func(n int) {
		visitor, path := kept, "/index.html"
		if n%2 == 0 {
			visitor = fresh
		}
		if n%20 == 0 {
			path = "/script.php"
		}
		err := func() error {
			response, err := visitor.Get("http://loaded.example" + path)
			if err != nil {
				return err
			}
			defer response.Body.Close()
			body, err := io.ReadAll(response.Body)
			if err == nil && (response.StatusCode != 200 || string(body) != "still here") {
				err = fmt.Errorf("%d for %s", response.StatusCode, path)
			}
			return err
		}()
		sent.Add(1)
		if err != nil {
			lost.Add(1)
			mu.Lock()
			reasons[err.Error()]++
			mu.Unlock()
		}
	}
	var group sync.WaitGroup
	const all = int(rate * lasting / time.Second)
	visitors := make(chan struct{}, 200)
	done := make(chan struct{})
	go func() {
		defer close(done)
		tick := time.NewTicker(10 * time.Millisecond)
		defer tick.Stop()
		// As many as are due by now, and no more at a time than nginx has
		// connections for: on a machine that is busy with other tests,
		// what a tick leaves out is made up for, and not all at once.
		begun := time.Now()
		for n := 0; n < all; {
			<-tick.C
			for due := min(int(time.Since(begun).Seconds()*rate), all); n < due; {
				n++
				number := n
				visitors <- struct{}{}
				group.Go(func() {
					defer func() { <-visitors }()
					ask(number)
				})
			}
		}
	}()
	reloads := 0
	for going := true; going; reloads++ {
		e2e.ChangeDomain(t, a.ID, "loaded.example",
			api.DomainChange{Settings: map[string]any{"static_caching": 60 + reloads, "php_inputs": 1000 + reloads/3}})
		select {
		case <-done:
			going = false
		default:
		}
	}
	group.Wait()
	t.Logf("%d requests, %d reloads", sent.Load(), reloads)
	require.Greater(t, reloads, 5)
	require.Greater(t, sent.Load(), int64(rate*lasting.Seconds()*8/10), "this machine is too slow for the load")
	assert.Zero(t, lost.Load(), "%v", reasons)
}
