package inventory

import (
	"errors"
	"strings"
	"time"

	"kestrel/internal/api"
	"kestrel/internal/core/words"
	"kestrel/internal/platform"
	"kestrel/internal/platform/lab"
	"kestrel/internal/platform/libvirt"
	"kestrel/internal/problem"
)

// settings is what a kind of platform needs beside address and credentials, as it
// is stored.
type settings struct {
	Certificates  string `json:"certificates,omitempty"`
	NBDPorts      string `json:"nbdPorts,omitempty"`
	Scratch       string `json:"scratch,omitempty"`
	FreezeSeconds int    `json:"freezeSeconds,omitempty"`
}

func settingsOf(in *api.LibvirtSettings) settings {
	if in == nil {
		return settings{}
	}
	return settings{Certificates: value(in.Certificates), NBDPorts: value(in.NbdPorts), Scratch: value(in.Scratch), FreezeSeconds: value(in.FreezeSeconds)}
}

func (s settings) view() *api.LibvirtSettings {
	v := &api.LibvirtSettings{Certificates: orNil(s.Certificates), NbdPorts: orNil(s.NBDPorts), Scratch: orNil(s.Scratch)}
	if s.FreezeSeconds != 0 {
		v.FreezeSeconds = &s.FreezeSeconds
	}
	return v
}

func (v *Inventory) newDriver(name, kind, address, user, password string, set settings) (platform.Driver, error) {
	if v.Connect != nil {
		return v.Connect(kind, address)
	}
	switch kind {
	case "lab":
		if user == "" {
			return nil, problem.Invalid("user", "Give the user to sign in with at the platform.")
		}
		d, err := lab.New(address, user, password, v.Clock, v.Within)
		if err != nil {
			return nil, problem.Invalid("address", "%s", err)
		}
		return d, nil
	case "libvirt":
		if user != "" || password != "" {
			return nil, problem.Invalid("user", "libvirt takes no user and password here; give certificates for TLS, or a key for ssh in the URI.")
		}
		if set.Certificates != "" {
			root, _, err := v.Certificates.Find(set.Certificates)
			if err != nil {
				return nil, problem.Invalid("libvirt.certificates", "Certificates are not read from %s: %v.", set.Certificates, err)
			}
			_ = root.Close()
		}
		x := libvirt.Settings{Hosts: strings.Fields(strings.ReplaceAll(address, ",", " ")), Certificates: set.Certificates, NBDPorts: set.NBDPorts, Scratch: set.Scratch,
			Guard: v.Guard, Owner: v.Owner, Within: v.Within, Log: v.Log.With("platform", name), Now: v.Clock.Now}
		if f := set.FreezeSeconds; f != 0 {
			if f < 1 || f > 60 {
				return nil, problem.Invalid("libvirt.freezeSeconds", "A guest agent gets 1 to 60 seconds.")
			}
			x.FreezeLimit = time.Duration(f) * time.Second
		}
		d, err := libvirt.New(x)
		if err != nil {
			return nil, problem.Invalid(fieldOf(err), "%s", words.Upper(err.Error()))
		}
		return d, nil
	}
	return nil, problem.Invalid("kind", "%q is not a kind of platform that can be added; use lab or libvirt.", kind)
}

// fieldOf names the field that a fault of libvirt's settings is about.
func fieldOf(err error) string {
	var fault *libvirt.SettingError
	if errors.As(err, &fault) && fault.Setting != "" {
		return "libvirt." + fault.Setting
	}
	return "address"
}
