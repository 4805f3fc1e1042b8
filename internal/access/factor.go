package access

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"image/png"
	"strings"
	"time"

	"github.com/pquerna/otp"
	"github.com/pquerna/otp/totp"

	"kestrel/internal/api"
	"kestrel/internal/core/actor"
	"kestrel/internal/problem"
	"kestrel/internal/records"
)

// One-time codes after RFC 6238 with what every authenticator knows: SHA-1, six digits,
// thirty seconds, a step of grace to either side.
const (
	codeStep      = 30 * time.Second
	seedBytes     = 20
	recoveryCodes = 10
)

// factor finds somebody's second factor; false if they have none that is confirmed.
func (a *Access) factor(ctx context.Context, person string) (records.SecondFactor, bool, error) {
	f, err := a.db.SecondFactor(ctx, person)
	if errors.Is(err, records.ErrNotFound) {
		return f, false, nil
	}
	return f, err == nil && f.ConfirmedAt != nil, err
}

// stepOf finds the step of a code, 0 if it is none of a seed's now.
func stepOf(seed, code string, now time.Time) int64 {
	for _, d := range []time.Duration{0, -codeStep, codeStep} {
		at := now.Add(d)
		want, err := totp.GenerateCode(seed, at)
		if err == nil && subtle.ConstantTimeCompare([]byte(want), []byte(code)) == 1 {
			return at.Unix() / int64(codeStep/time.Second)
		}
	}
	return 0
}

// needCode is the answer where a code is missing, which clients know by its field.
func needCode() error {
	return &problem.Problem{Status: 401, Title: "A code is needed", Errors: []problem.Field{{Field: "code", Message: "Give the code that your authenticator shows, or one of your recovery codes."}}}
}

// second checks the second factor of somebody whose first was right: a code of their
// authenticator, or a recovery code. Nothing is asked of who has none.
func (a *Access) second(ctx context.Context, p records.Person, code *string, from string) (how string, err error) {
	f, has, err := a.factor(ctx, p.ID)
	if err != nil {
		return "", err
	}
	if !has {
		keys, err := a.db.Passkeys(ctx, p.ID)
		if err != nil || len(keys) == 0 {
			return "", err
		}
		// A password beside a passkey would be the weaker way in.
		return "", problem.Denied("You have a passkey and no codes: sign in with the passkey. On the command line: kestrel login --token.")
	}
	if code == nil || strings.TrimSpace(*code) == "" {
		return "", needCode()
	}
	if !a.tries.allowCode(p.ID) {
		return "", &problem.Problem{Status: 429, Title: "Too many tries", Detail: "Wait a minute, then try again."}
	}
	given := strings.ToUpper(strings.NewReplacer(" ", "", "-", "").Replace(*code))
	wrong := func() error {
		a.failed(ctx, p.Name, from)
		return &problem.Problem{Status: 401, Title: "A code is needed", Errors: []problem.Field{{Field: "code", Message: "This code is not good, or was used already. Wait for the next one."}}}
	}
	if len(given) > 6 {
		err := a.db.UseRecoveryCode(ctx, p.ID, HashSecret(given))
		if errors.Is(err, records.ErrNotFound) {
			return "", wrong()
		}
		return fmt.Sprintf(" with a recovery code, %d are left", max(0, f.Codes-1)), err
	}
	seed, err := a.box.Open(f.Seed)
	if err != nil {
		return "", err
	}
	step := stepOf(seed, given, a.clk.Now())
	if step == 0 {
		return "", wrong()
	}
	if err := a.db.UseStep(ctx, p.ID, step); err != nil {
		if errors.Is(err, records.ErrStale) {
			return "", wrong()
		}
		return "", err
	}
	return " with a code", nil
}

// BeginSecondFactor gives somebody the seed of their codes. It is good when they have
// shown a code of it.
func (a *Access) BeginSecondFactor(ctx context.Context, who actor.Actor) (api.SecondFactorSeed, error) {
	p, err := a.inPerson(ctx, who)
	if err != nil {
		return api.SecondFactorSeed{}, err
	}
	key, err := totp.Generate(totp.GenerateOpts{Issuer: "Kestrel Tide " + a.site, AccountName: p.Name, SecretSize: seedBytes, Algorithm: otp.AlgorithmSHA1, Digits: otp.DigitsSix})
	if err != nil {
		return api.SecondFactorSeed{}, fmt.Errorf("make a second factor: %w", err)
	}
	err = a.db.PutSecondFactor(ctx, p.ID, a.box.Seal(key.Secret()))
	if errors.Is(err, records.ErrStale) {
		return api.SecondFactorSeed{}, problem.Conflict("You have a second factor already. Take it off first.")
	}
	if err != nil {
		return api.SecondFactorSeed{}, err
	}
	img, err := key.Image(220, 220)
	if err != nil {
		return api.SecondFactorSeed{}, fmt.Errorf("draw a second factor: %w", err)
	}
	var b bytes.Buffer
	if err := png.Encode(&b, img); err != nil {
		return api.SecondFactorSeed{}, fmt.Errorf("draw a second factor: %w", err)
	}
	return api.SecondFactorSeed{Secret: key.Secret(), URI: key.URL(), Image: "data:image/png;base64," + base64.StdEncoding.EncodeToString(b.Bytes())}, nil
}

// ConfirmSecondFactor makes somebody's second factor good with a code of it, and gives
// their recovery codes.
func (a *Access) ConfirmSecondFactor(ctx context.Context, who actor.Actor, in api.SecondFactorCode) (api.RecoveryCodes, error) {
	p, err := a.inPerson(ctx, who)
	if err != nil {
		return api.RecoveryCodes{}, err
	}
	none := problem.Conflict("There is no second factor to confirm. Set one up first.")
	f, has, err := a.factor(ctx, p.ID)
	switch {
	case err != nil:
		return api.RecoveryCodes{}, err
	case has || f.Person == "":
		return api.RecoveryCodes{}, none
	case !a.tries.allowCode(p.ID):
		return api.RecoveryCodes{}, &problem.Problem{Status: 429, Title: "Too many tries", Detail: "Wait a minute, then try again."}
	}
	seed, err := a.box.Open(f.Seed)
	if err != nil {
		return api.RecoveryCodes{}, err
	}
	step := stepOf(seed, strings.TrimSpace(in.Code), a.clk.Now())
	if step == 0 {
		return api.RecoveryCodes{}, problem.Invalid("code", "This is not the code of now. Look at the clocks of this site and of your authenticator, if it stays so.")
	}
	out := api.RecoveryCodes{Codes: []string{}}
	var hashes [][]byte
	for range recoveryCodes {
		c := rand.Text()[:16] // 80 random bits
		hashes = append(hashes, HashSecret(c))
		out.Codes = append(out.Codes, strings.Join([]string{c[:4], c[4:8], c[8:12], c[12:]}, "-"))
	}
	err = a.trail.Do(ctx, who, person(p), func(ctx context.Context) error { return a.db.ConfirmSecondFactor(ctx, p.ID, a.clk.Now(), step, hashes) }, "%s set up a second factor", who)
	if errors.Is(err, records.ErrStale) {
		return api.RecoveryCodes{}, none
	}
	return out, err
}

// RemoveSecondFactor takes somebody's own off, if they know their password and none is
// demanded of them.
func (a *Access) RemoveSecondFactor(ctx context.Context, who actor.Actor, in api.Password) error {
	p, err := a.inPerson(ctx, who)
	if err != nil {
		return err
	}
	keys, err := a.db.Passkeys(ctx, p.ID)
	if err != nil {
		return err
	}
	if len(keys) == 0 && a.Demanded != nil && a.Demanded(p.Role) {
		return problem.Conflict("A second factor is demanded of every %s here.", p.Role)
	}
	if err := a.knows(ctx, p, who.From, "password", in.Password); err != nil {
		return err
	}
	return a.trail.Do(ctx, who, person(p), func(ctx context.Context) error { return a.db.DeleteSecondFactor(ctx, p.ID) }, "%s took their second factor off", who)
}

// inPerson finds the person that somebody is, who came by a session and not a token: a
// token must not change what guards against whoever has stolen it.
func (a *Access) inPerson(ctx context.Context, who actor.Actor) (records.Person, error) {
	if who.Kind != actor.Person {
		return records.Person{}, &problem.Problem{Status: 403, Title: "Not allowed; nothing was changed", Detail: "A token does not change how its person signs in. Sign in in the console, or give name and password to: kestrel session second-factor."}
	}
	p, err := a.self(ctx, who)
	if err != nil {
		return p, err
	}
	return p, elsewhere(p)
}

// SecondFactor tells how it stands with somebody's, and whether they sign in elsewhere.
func (a *Access) SecondFactor(ctx context.Context, who actor.Actor) (v api.SecondFactor, elsewhere bool, err error) {
	p, err := a.self(ctx, who)
	if err != nil {
		return v, false, err
	}
	f, has, err := a.factor(ctx, who.PersonID)
	if err != nil {
		return v, false, err
	}
	keys, err := a.db.Passkeys(ctx, who.PersonID)
	return api.SecondFactor{Set: has, Passkeys: len(keys), Demanded: a.Demanded != nil && a.Demanded(string(who.Role)), RecoveryCodes: f.Codes}, p.Subject != "", err
}
