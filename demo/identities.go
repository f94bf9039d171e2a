package demo

import (
	"context"
	"errors"
	"time"

	"gentlepiston.example/piston/api"
	"gentlepiston.example/piston/client"
	"gentlepiston.example/piston/core/access"
	"gentlepiston.example/piston/core/identity"
	"gentlepiston.example/piston/core/profile"
)

const appID = "net.tidewick.almanac"

// keepIdentities has the service make a key for each platform, which releases of main may sign the app with. The one
// for iOS has a profile that stands in for a real one: no device takes what it is in.
func (s *Story) keepIdentities(ctx context.Context) error {
	scope := &access.Scope{Pipelines: []string{"release"}, Branches: []string{"main"}}
	for platform, name := range map[string]string{"android": "harbour-upload", "ios": "harbour-store"} {
		if _, err := s.Client.Identity(ctx, Project, name); !errors.Is(err, client.ErrNotFound) {
			if err != nil {
				return err
			}
			continue // of a demo before: its key must stay
		}
		i, err := s.Client.SetIdentity(ctx, Project, name, api.NewIdentity{Platform: platform,
			Make:     &api.MakeKey{Algorithm: identity.RSA3072, Name: "Tidewick " + platform, Years: identity.DefaultYears},
			Settings: &api.IdentitySettings{Apps: &[]string{appID}, Scope: scope}})
		if err != nil {
			return err
		}
		if platform == "ios" {
			if err := s.addStandIn(ctx, name, i); err != nil {
				return err
			}
		}
	}
	return nil
}

func (s *Story) addStandIn(ctx context.Context, name string, i api.Identity) error {
	chain, err := identity.ReadCertificates([]byte(i.Certificates))
	if err != nil {
		return err
	}
	now := time.Now()
	by, err := identity.Make(identity.P256, "Stand-in for who gives profiles", 1, now)
	if err != nil {
		return err
	}
	raw, err := profile.StandIn(by, chain[0], "TIDEWICK00", appID, now, now.AddDate(0, 10, 0))
	if err != nil {
		return err
	}
	_, err = s.Client.AddProfile(ctx, Project, name, api.NewProfile{Data: raw})
	return err
}
