package appfile

import (
	"cmp"
	"slices"
	"strings"

	"gentlepiston.example/piston/core/appfile/android"
)

// Domain is one that the network settings of an app name.
type Domain struct {
	Name string `json:"name"`
	// Whether those below it are meant, too.
	Below bool `json:"below"`
	// Whether the app may speak unencrypted with it.
	Cleartext bool `json:"cleartext"`
}

// network takes what an Android app's network settings say (developer.android.com, "Network security configuration").
func (p *Package) network(table *android.Table, app *android.Element, prefix string) {
	read := android.ReadXML
	if p.Kind == Bundle {
		read = android.ReadProto
	}
	for _, v := range table.Resolve(app.Ref("networkSecurityConfig")) {
		e := p.Find(prefix + v.Text)
		if e == nil {
			continue
		}
		text, err := p.Read(e, maxManifest)
		if err != nil {
			continue
		}
		settings, err := read(text)
		if err != nil {
			continue // it is told of by what reads it in earnest: the device
		}
		p.Cleartext = settings.First("base-config").Plain("cleartextTrafficPermitted") == "true"
		p.domains(settings, p.Cleartext)
	}
	p.sortDomains()
}

// domains takes those of a settings' element, and of what is in it.
func (p *Package) domains(e *android.Element, cleartext bool) {
	for _, c := range e.All("domain-config") {
		may := cmp.Or(c.Plain("cleartextTrafficPermitted"), map[bool]string{true: "true"}[cleartext]) == "true"
		for _, d := range c.All("domain") {
			p.Domains = append(p.Domains, Domain{d.Text, d.Plain("includeSubdomains") == "true", may})
		}
		p.domains(c, may)
	}
}

// exception is what an app of iOS says of a domain (Information Property List Key Reference, NSExceptionDomains).
type exception struct {
	Below    bool `plist:"NSIncludesSubdomains"`
	Insecure bool `plist:"NSExceptionAllowsInsecureHTTPLoads"`
}

func (p *Package) exceptions(list map[string]exception) {
	for name, e := range list {
		p.Domains = append(p.Domains, Domain{name, e.Below, e.Insecure})
	}
	p.sortDomains()
}

func (p *Package) sortDomains() {
	slices.SortFunc(p.Domains, func(a, b Domain) int { return strings.Compare(a.Name, b.Name) })
}
