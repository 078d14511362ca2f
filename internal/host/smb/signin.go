package smb

import (
	"fmt"

	"github.com/cloudsoda/go-smb2"
	"github.com/jcmturner/gokrb5/v8/client"
	"github.com/jcmturner/gokrb5/v8/config"
)

// Kerberos says how tickets are obtained (RFC 4120).
type Kerberos struct {
	Realm  string `json:"realm"`
	Config string `json:"config"` // a krb5.conf
	Server string `json:"server"` // the file server's name in the realm, as its service cifs/NAME has it
}

// initiator is how somebody signs in, until done.
func (a *Access) initiator() (who smb2.Initiator, done func(), err error) {
	k := a.Kerberos
	if k == nil {
		return &smb2.NTLMInitiator{User: a.User, Password: a.Password, Domain: a.Domain}, func() {}, nil
	}
	conf, err := config.Load(k.Config)
	if err != nil {
		return nil, nil, fmt.Errorf("%s: %w", k.Config, err)
	}
	c := client.NewWithPassword(a.User, k.Realm, a.Password, conf, client.DisablePAFXFAST(true))
	if err := c.Login(); err != nil {
		return nil, nil, fmt.Errorf(
			"no ticket for %s in %s: is the password right, and does the key distribution centre answer? %w", a.User,
			k.Realm, err)
	}
	return &smb2.Krb5Initiator{Client: c, TargetSPN: "cifs/" + k.Server}, c.Destroy, nil
}
