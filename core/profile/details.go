package profile

import (
	"bytes"
	"crypto/x509"
	"fmt"
	"slices"
	"strings"
	"time"

	"howett.net/plist"
)

// Details is what a profile grants.
type Details struct {
	Profile
	Name         string
	UUID         string
	Team         string
	Devices      []string // for which it is; empty for a store's
	Certificates []*x509.Certificate
	Entitlements map[string]any
}

// ReadAll reads all that a profile grants.
func ReadAll(data []byte) (*Details, error) {
	p, ok := Read(data)
	if !ok {
		return nil, fmt.Errorf("this is no provisioning profile")
	}
	var in struct {
		Name                  string
		UUID                  string
		TeamIdentifier        []string
		ProvisionedDevices    []string
		DeveloperCertificates [][]byte
		Entitlements          map[string]any
	}
	if _, err := plist.Unmarshal(list(data), &in); err != nil {
		return nil, fmt.Errorf("the profile's property list cannot be read: %w", err)
	}
	d := &Details{Profile: p, Name: in.Name, UUID: in.UUID, Devices: in.ProvisionedDevices,
		Entitlements: in.Entitlements}
	if len(in.TeamIdentifier) > 0 {
		d.Team = in.TeamIdentifier[0]
	}
	for _, der := range in.DeveloperCertificates {
		c, err := x509.ParseCertificate(der)
		if err != nil {
			return nil, fmt.Errorf("a certificate in the profile cannot be read: %w", err)
		}
		d.Certificates = append(d.Certificates, c)
	}
	return d, nil
}

// Grants are the entitlements of an app that asks for no less than all it may have: those of the profile, with its own
// name where the profile leaves that open.
func (d *Details) Grants(app string) map[string]any {
	own := map[string]any{}
	for key, value := range d.Entitlements {
		if list, is := value.([]any); is && slices.Contains(list, any("*")) {
			continue // what each app must name itself
		}
		own[key] = value
		if text, is := value.(string); is && strings.HasSuffix(text, ".*") && key == "application-identifier" {
			prefix, _, _ := strings.Cut(text, ".") // of the team: what comes behind it is the app's id, or its beginning
			own[key] = prefix + "." + app
		}
	}
	return own
}

// Names tells whether it is for what a certificate signs.
func (d *Details) Names(cert *x509.Certificate) bool {
	return slices.ContainsFunc(d.Certificates, func(c *x509.Certificate) bool { return bytes.Equal(c.Raw, cert.Raw) })
}

// Refuses tells why a package may not be signed with it: the first reason, "" when it may.
func (d *Details) Refuses(app string, cert *x509.Certificate, asked map[string]any, now time.Time) string {
	switch {
	case !d.For(app):
		return fmt.Sprintf("the profile %q is for %s, and the app is %s", d.Name, d.App, app)
	case !d.Ends.IsZero() && now.After(d.Ends):
		return fmt.Sprintf("the profile %q has expired on %s", d.Name, d.Ends.Format(time.DateOnly))
	case !d.Names(cert):
		return fmt.Sprintf("the profile %q is for other certificates than %q", d.Name, cert.Subject.CommonName)
	}
	for _, key := range sorted(asked) {
		granted, there := d.Entitlements[key]
		switch {
		case !there:
			return fmt.Sprintf("the app asks for %s, which the profile %q does not grant", key, d.Name)
		case !covers(granted, asked[key]):
			return fmt.Sprintf("the app asks for %s = %v, and the profile %q grants %v", key, asked[key], d.Name, granted)
		}
	}
	return ""
}

func sorted(m map[string]any) []string {
	var list []string
	for k := range m {
		list = append(list, k)
	}
	slices.Sort(list)
	return list
}

// covers tells whether what is granted holds what is asked for; a star at the end of a text is anything.
func covers(granted, asked any) bool {
	switch g := granted.(type) {
	case []any:
		list, is := asked.([]any)
		if !is {
			list = []any{asked}
		}
		for _, a := range list {
			if !slices.ContainsFunc(g, func(each any) bool { return covers(each, a) }) {
				return false
			}
		}
		return true
	case string:
		a, is := asked.(string)
		start, open := strings.CutSuffix(g, "*")
		return is && (a == g || open && strings.HasPrefix(a, start))
	case bool:
		return g || asked == false
	}
	return fmt.Sprint(granted) == fmt.Sprint(asked)
}
