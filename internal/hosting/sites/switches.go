package sites

import (
	"encoding/json"
	"maps"
	"slices"

	"victualler/internal/hosting/language"
	"victualler/internal/hosting/plans"
)

// Switches are the settings of one site, all of them, as servers get
// them. The members are the settings of [All].
type Switches struct {
	Preferred          string            `json:"preferred"`
	HTTPSRedirect      bool              `json:"https_redirect"`
	HSTS               int64             `json:"hsts"`
	HSTSSubdomains     bool              `json:"hsts_subdomains"`
	IndexFiles         []string          `json:"index_files"`
	FrontScript        string            `json:"front_script"`
	ErrorPages         map[string]string `json:"error_pages"`
	LargestUpload      int64             `json:"largest_upload"`
	StaticCaching      int64             `json:"static_caching"`
	Compression        bool              `json:"compression"`
	Redirects          map[string]string `json:"redirects"`
	DirectoryListing   bool              `json:"directory_listing"`
	VisitorsFrom       []string          `json:"visitors_from"`
	SiteConnections    int64             `json:"site_connections"`
	VisitorConnections int64             `json:"visitor_connections"`
	Methods            []string          `json:"methods"`
	DotFiles           bool              `json:"dot_files"`
	Headers            map[string]string `json:"headers"`
	PHP                bool              `json:"php"`
	PHPVersion         string            `json:"php_version"`
	PHPMemory          int64             `json:"php_memory"`
	PHPTime            int64             `json:"php_time"`
	PHPInputs          int64             `json:"php_inputs"`
	PHPErrors          bool              `json:"php_errors"`
	PHPTimezone        string            `json:"php_timezone"`
	AccessLog          bool              `json:"access_log"`
	Raw                string            `json:"raw"`
}

// Check refuses switches that no settings could have led to.
func (s Switches) Check() error {
	text, err := json.Marshal(s)
	if err != nil {
		return err
	}
	var whole Settings
	return json.Unmarshal(text, &whole)
}

// Layer is one place where settings come from.
type Layer struct {
	// Source names it for people, such as "template shop".
	Source   string
	Settings Settings
}

// Effective is the value of one setting, with its source.
type Effective struct {
	Info
	Value any
	// Source is empty for the value that holds where nothing is set.
	Source string
	// Bounded says by what the value is less than what is set; empty where it is not.
	Bounded language.Text
}

// Bounds are what an account's allowance leaves to its sites.
type Bounds struct {
	PHPMemory, PHPTime, Disk, Upload, SiteConnections, VisitorConnections int64
}

// BoundsOf reads the bounds out of an allowance's amounts.
func BoundsOf(limits plans.Limits) Bounds {
	most := func(key plans.Key) int64 {
		if limits[key].Unlimited {
			return 1 << 60
		}
		info, _ := plans.Info(key)
		return max(limits[key].N, info.Floor)
	}
	return Bounds{PHPMemory: most(plans.PHPMemory), PHPTime: most(plans.PHPTime), Disk: most(plans.Disk),
		Upload: most(plans.UploadSize), SiteConnections: most(plans.SiteConnections),
		VisitorConnections: most(plans.VisitorConnections)}
}

// of returns the bound of a setting.
func (b Bounds) of(key Key) (most int64, of plans.Key, bounded bool) {
	switch key {
	case "php_memory":
		return b.PHPMemory, plans.PHPMemory, true
	case "php_time":
		return b.PHPTime, plans.PHPTime, true
	case "largest_upload":
		if b.Disk < b.Upload {
			return b.Disk, plans.Disk, true
		}
		return b.Upload, plans.UploadSize, true
	case "site_connections":
		return b.SiteConnections, plans.SiteConnections, true
	case "visitor_connections":
		return b.VisitorConnections, plans.VisitorConnections, true
	}
	return 0, "", false
}

// Unbounded leaves every value as it is set.
var Unbounded = BoundsOf(plans.Limits{plans.PHPMemory: plans.Unlimited, plans.PHPTime: plans.Unlimited,
	plans.Disk: plans.Unlimited, plans.UploadSize: plans.Unlimited, plans.SiteConnections: plans.Unlimited,
	plans.VisitorConnections: plans.Unlimited})

// Admit refuses settings beyond the bounds, as the sentence about the first one.
func (b Bounds) Admit(set Settings) (Key, error) {
	for _, key := range slices.Sorted(maps.Keys(set)) {
		most, of, bounded := b.of(key)
		n, is := set[key].(int64)
		if bounded && is && n > most {
			info, _ := Of(key)
			return key, language.Errorf("%s is at most %s for this account, by its limit %s",
				language.Plain(info.Title), info.Format(most), of)
		}
	}
	return "", nil
}

// Resolve finds the value of every setting in the layers, the first of
// which counts most, and holds it within the bounds.
func Resolve(bounds Bounds, layers ...Layer) []Effective {
	list := make([]Effective, 0, len(All))
	for _, info := range All {
		e := Effective{Info: info, Value: info.Default}
		for _, layer := range layers {
			if value, set := layer.Settings[info.Key]; set {
				e.Value, e.Source = value, layer.Source
				break
			}
		}
		if info.Kind == Text {
			if err := checkRaw(e.Value); err != nil {
				e.Bounded, e.Value = language.New("not in force: %s", err), ""
			}
		}
		if most, of, bounded := bounds.of(info.Key); bounded && e.Value.(int64) > most {
			e.Bounded = language.New("set to %s; the limit %s allows %s", info.Format(e.Value), of, info.Format(most))
			e.Value = max(most, info.Least)
		}
		list = append(list, e)
	}
	return list
}

// Defaults are the switches of a site for which nothing is set.
func Defaults() Switches {
	s, err := SwitchesOf(Resolve(Unbounded))
	if err != nil {
		panic(err) // the table contradicts itself
	}
	return s
}

// SwitchesOf gathers effective values for servers.
func SwitchesOf(list []Effective) (Switches, error) {
	values := map[Key]any{}
	for _, e := range list {
		values[e.Key] = e.Value
	}
	var s Switches
	text, err := json.Marshal(values)
	if err != nil {
		return s, err
	}
	return s, json.Unmarshal(text, &s)
}
