package demo

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"strings"
	"time"

	"victualler/internal/api"
	"victualler/internal/client"
)

// nameServers are the co-operative's: the first is petrel, the second fulmar.
var nameServers = []string{"ns1.ternisland.example", "ns2.ternisland.example"}

// records are what people of the scenario have added by hand, by zone.
var records = map[string][]api.NewRecord{
	"slipway-boatyard.example": {{Name: "@", Type: "MX", Data: "10 mx.harbourmail.test."},
		{Name: "@", Type: "TXT", Data: "v=spf1 include:_spf.harbourmail.test -all"},
		{Name: "webcam", Type: "A", Data: "192.0.2.44", TTL: 300}, {Name: "www.shop", Type: "CNAME", Data: "shop"}},
	"lighthousetrust.example": {{Name: "@", Type: "CAA", Data: "0 issue letters.test"},
		{Name: "tides", Type: "AAAA", Data: "2001:db8::7"}},
}

// withServers adds the names by which the co-operative's mail servers greet others.
func withServers(addresses map[string][]string) map[string][]api.NewRecord {
	all := maps.Clone(records)
	for _, label := range []string{"skua", "fulmar"} {
		for _, address := range addresses[label] {
			kind := "A"
			if strings.Contains(address, ":") {
				kind = "AAAA"
			}
			all["ternisland.example"] = append(all["ternisland.example"],
				api.NewRecord{Name: label, Type: kind, Data: address})
		}
	}
	return all
}

// elsewhere is what somebody else's name server answers for a domain that is not delegated to the
// co-operative: one record is right, one is still that of the old host, one is missing.
const elsewhere = "ternislandsurf.example"

// hostZones tells the public DNS the scenario's domains, adds records,
// and has one zone signed. What is there stays.
func hostZones(ctx context.Context, c *client.Client, publicDNS string) error {
	var servers api.ServerList
	if err := c.Get(ctx, "/servers", nil, &servers); err != nil {
		return err
	}
	addresses := map[string][]string{}
	for _, s := range servers.Servers {
		addresses[s.Label] = s.Addresses
	}
	glue := map[string][]string{nameServers[0]: addresses["petrel"], nameServers[1]: addresses["fulmar"]}
	if err := register(ctx, publicDNS, "/domains/ternisland.example", map[string]any{"name_servers": nameServers,
		"glue": glue}); err != nil {
		return err
	}
	if err := oneElsewhere(ctx, c, publicDNS); err != nil {
		return fmt.Errorf("zone %s: %w", elsewhere, err)
	}
	for name, list := range withServers(addresses) {
		var z api.ZoneDetail
		if err := c.Get(ctx, "/zones/"+name, nil, &z); err != nil {
			return err
		}
		for _, r := range list {
			if z.Own > 0 {
				break
			}
			if err := changeZone(ctx, c, client.Call{Method: http.MethodPost, Path: "/zones/" + name + "/records",
				Body: r}); err != nil {
				return fmt.Errorf("zone %s: %w", name, err)
			}
		}
	}
	var page api.ZonePage
	if err := c.Get(ctx, "/zones", map[string][]string{"hosted": {"here"}, "limit": {"500"}}, &page); err != nil {
		return err
	}
	for _, z := range page.Zones {
		d := map[string]any{"name_servers": nameServers}
		if z.Name == "ternisland.example" {
			d["glue"] = glue
		}
		if z.Name == "lighthousetrust.example" {
			ds, err := signed(ctx, c, z)
			if err != nil {
				return fmt.Errorf("signing %s: %w", z.Name, err)
			}
			d["ds"] = ds
		}
		if err := register(ctx, publicDNS, "/domains/"+z.Name, d); err != nil {
			return err
		}
	}
	return nil
}

// signed has a zone signed, and returns the DS records for the registrar.
func signed(ctx context.Context, c *client.Client, z api.Zone) ([]string, error) {
	if !z.DNSSEC {
		on := true
		if err := changeZone(ctx, c, client.Call{Method: http.MethodPatch, Path: "/zones/" + z.Name,
			Body: api.ZoneChange{DNSSEC: &on}}); err != nil {
			return nil, err
		}
	}
	for try := 0; ; try++ {
		var s api.ZoneSigning
		err := c.Get(ctx, "/zones/"+z.Name+"/signing", nil, &s)
		if err != nil || len(s.DS) > 0 || try == 50 {
			return s.DS, err
		}
		time.Sleep(100 * time.Millisecond)
	}
}

func oneElsewhere(ctx context.Context, c *client.Client, publicDNS string) error {
	var z api.ZoneDetail
	if err := c.Get(ctx, "/zones/"+elsewhere, nil, &z); err != nil {
		return err
	}
	if z.Hosted == "here" {
		if err := changeZone(ctx, c, client.Call{Method: http.MethodPatch, Path: "/zones/" + elsewhere,
			Body: api.ZoneChange{Hosted: "elsewhere"}}); err != nil {
			return err
		}
	}
	text := "www A 192.0.2.200\n"
	for _, r := range z.Records {
		if r.Name == "@" && !r.Own {
			text += fmt.Sprintf("%s %s %s\n", r.Name, r.Type, r.Data)
		}
	}
	return register(ctx, publicDNS, "/zones/"+elsewhere, text)
}

// changeZone changes a zone and waits until it is answered so.
func changeZone(ctx context.Context, c *client.Client, call client.Call) error {
	var done api.ZoneChanged
	if err := c.Do(ctx, call, &done); err != nil {
		return err
	}
	o, err := c.Watch(ctx, done.Operation, func(api.Operation) {})
	if err == nil && o.State == "failed" {
		err = errors.New(o.Failure)
	}
	return err
}

// register tells the stand-in for the public DNS something: a
// text as it is, anything else as JSON.
func register(ctx context.Context, publicDNS, path string, body any) error {
	content, is := body.(string)
	if !is {
		text, err := json.Marshal(body)
		if err != nil {
			return err
		}
		content = string(text)
	}
	request, err := http.NewRequestWithContext(ctx, http.MethodPut, "http://"+publicDNS+path,
		bytes.NewReader([]byte(content)))
	if err != nil {
		return err
	}
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if response.StatusCode != http.StatusOK {
		text, _ := io.ReadAll(io.LimitReader(response.Body, 1000))
		return fmt.Errorf("the public DNS refuses %s: %s", path, strings.TrimSpace(string(text)))
	}
	return nil
}
