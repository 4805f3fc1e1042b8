package notify

import (
	"bytes"
	"context"
	"crypto/tls"
	"fmt"
	"html/template"
	"net"
	"strconv"
	"strings"

	"github.com/wneessen/go-mail"
)

// page is a note as HTML, for those who read mail so. The first line says all there is to
// know; nothing is fetched from anywhere.
func page() (*template.Template, error) {
	return template.New("mail").Funcs(template.FuncMap{"stamp": stamp}).Parse(`<!doctype html>
<html lang="en"><body style="font-family:system-ui,sans-serif;color:#16323a;background:#f4f7f6;padding:16px">
<div style="max-width:640px;background:#ffffff;border:1px solid #cfdcd9;border-left:6px solid {{.Edge}};padding:16px">
<h1 style="font-size:18px;margin:0 0 12px">{{.Note.Title}}</h1>
{{with .Note.Alert}}{{if not .ClearedAt}}<p>{{.Text}}</p>{{with .Mend}}<p>{{.}}</p>{{end}}{{end}}
{{with .Groups}}<p>Groups held up by it:</p><ul>{{range .}}<li>{{.}}</li>{{end}}</ul>{{end}}
<p style="color:#5a7178">Since {{stamp .Since}}{{with .ClearedAt}}, cleared {{stamp .}}{{end}}</p>{{end}}
{{with .Note.Lines}}<ul>{{range .}}<li>{{.}}</li>{{end}}</ul>{{end}}
{{with .Note.Link}}<p><a href="{{.}}">{{.}}</a></p>{{end}}
</div></body></html>
`)
}

// edges are the colours of the line beside a note; what it is says the title.
func (n Note) edge() string {
	switch {
	case n.Event == "cleared" || n.Event == Test || n.Event == Digest || n.Event == Report || n.Event == Step:
		return "#2f7d6b"
	case n.Alert != nil && n.Alert.Level == "urgent":
		return "#b3402e"
	}
	return "#b07d1c"
}

// letter makes the mail of a note. Its Message-ID is that of the message, at each try.
func (d deliverer) letter(c Channel, id string, n Note) (*mail.Msg, error) {
	m := mail.NewMsg()
	if err := m.From(c.From); err != nil {
		return nil, fmt.Errorf("the sender: %w", err)
	}
	if err := m.To(c.To...); err != nil {
		return nil, fmt.Errorf("the recipients: %w", err)
	}
	m.Subject(n.Title)
	m.SetDateWithValue(n.At)
	host := "kestrel-tide.invalid"
	if _, after, ok := strings.Cut(strings.TrimSuffix(c.From, ">"), "@"); ok {
		host = after
	}
	m.SetMessageIDWithValue(id + "@" + host)
	m.SetGenHeader("Auto-Submitted", "auto-generated") // RFC 3834: nobody's holiday answers it
	if n.Alert != nil {
		// Mails of one alert are shown together (RFC 5322, 3.6.4).
		thread := "<" + n.Alert.ID + "@" + host + ">"
		m.SetGenHeader(mail.HeaderReferences, thread)
		m.SetGenHeader(mail.HeaderInReplyTo, thread)
	}
	m.SetBodyString(mail.TypeTextPlain, n.text())
	t, err := page()
	if err != nil {
		return nil, fmt.Errorf("the form of mails: %w", err)
	}
	return m, m.AddAlternativeHTMLTemplate(t, struct {
		Note Note
		Edge string
	}{n, n.edge()})
}

// mail sends a note to a mail server.
func (d deliverer) mail(ctx context.Context, c Channel, secret, id string, n Note) error {
	m, err := d.letter(c, id, n)
	if err != nil {
		return err
	}
	if n.Report != nil && d.document != nil {
		name, pdf, err := d.document(ctx, *n.Report)
		if err != nil {
			return fmt.Errorf("make the report: %w", err)
		}
		if err := m.AttachReader(name, bytes.NewReader(pdf), mail.WithFileContentType("application/pdf")); err != nil {
			return fmt.Errorf("attach the report: %w", err)
		}
	}
	host, port, err := net.SplitHostPort(c.Server)
	if err != nil {
		return fmt.Errorf("the server: %w", err)
	}
	number, err := strconv.Atoi(port)
	if err != nil {
		return fmt.Errorf("the server's port: %w", err)
	}
	roots, err := c.roots()
	if err != nil {
		return err
	}
	opts := []mail.Option{mail.WithPort(number), mail.WithTimeout(d.waits.Try), mail.WithDialContextFunc(d.dial), mail.WithTLSConfig(&tls.Config{ServerName: host, RootCAs: roots, MinVersion: tls.VersionTLS12}), mail.WithoutNoop()}
	switch c.TLS {
	case TLSNone:
		opts = append(opts, mail.WithTLSPolicy(mail.NoTLS))
	case TLSImplicit:
		opts = append(opts, mail.WithSSL())
	default:
		opts = append(opts, mail.WithTLSPolicy(mail.TLSMandatory))
	}
	if c.User != "" {
		opts = append(opts, mail.WithSMTPAuth(mail.SMTPAuthAutoDiscover), mail.WithUsername(c.User), mail.WithPassword(secret))
	}
	client, err := mail.NewClient(host, opts...)
	if err != nil {
		return err
	}
	return client.DialAndSendWithContext(ctx, m)
}
