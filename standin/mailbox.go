// Package standin has small stand-ins of what is outside: they ship with the program, for trying it and for its tests,
// and say that they are stand-ins.
package standin

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"html/template"
	"io"
	"mime"
	"mime/multipart"
	"mime/quotedprintable"
	"net"
	"net/http"
	"net/mail"
	"strings"
	"sync"
	"time"

	"github.com/emersion/go-smtp"
)

// Mailbox is a stand-in of everybody's mailboxes: a mail server (SMTP, RFC 5321) that keeps what it is given, and a
// page that shows it. It keeps the last letters in memory.
type Mailbox struct {
	mu      sync.Mutex
	letters []Mail
	refuse  func(to string) error
}

// Mail is a letter that came.
type Mail struct {
	From, To, Subject, ID string
	Text, HTML            string
	At                    time.Time
}

// The bounds of what is kept.
const (
	maxLetters = 1000
	maxLetter  = 1 << 20
)

// Errors of a mailbox that refuses, for good and for now.
var (
	ErrNobody = &smtp.SMTPError{Code: 550, EnhancedCode: smtp.EnhancedCode{5, 1, 1}, Message: "nobody of that name here"}
	ErrFull   = &smtp.SMTPError{Code: 452, EnhancedCode: smtp.EnhancedCode{4, 2, 2}, Message: "the mailbox is full"}
)

// NewMailbox makes one that takes everything; addresses at bounce.example are refused for good.
func NewMailbox() *Mailbox {
	return &Mailbox{refuse: func(to string) error {
		if strings.HasSuffix(to, "@bounce.example") {
			return ErrNobody
		}
		return nil
	}}
}

// Refusing has it refuse some addresses.
func (m *Mailbox) Refusing(refuse func(to string) error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.refuse = refuse
}

// Letters are those that came, the newest first.
func (m *Mailbox) Letters() []Mail {
	m.mu.Lock()
	defer m.mu.Unlock()
	list := make([]Mail, len(m.letters))
	for i, l := range m.letters {
		list[len(list)-1-i] = l
	}
	return list
}

// Serve takes mail from one address and shows it at another, until ctx ends.
func (m *Mailbox) Serve(ctx context.Context, smtpOn, pageOn net.Listener) error {
	s := smtp.NewServer(smtp.BackendFunc(func(*smtp.Conn) (smtp.Session, error) { return &session{box: m}, nil }))
	s.Domain, s.MaxMessageBytes, s.ReadTimeout, s.WriteTimeout = "stand-in.invalid", maxLetter, time.Minute, time.Minute
	s.MaxRecipients = 1
	page := &http.Server{Handler: m, ReadHeaderTimeout: 10 * time.Second}
	ended := make(chan error, 2)
	go func() { ended <- s.Serve(smtpOn) }()
	go func() { ended <- page.Serve(pageOn) }()
	var err error
	select {
	case <-ctx.Done():
	case err = <-ended:
	}
	_, _ = s.Close(), page.Close()
	if errors.Is(err, http.ErrServerClosed) || errors.Is(err, smtp.ErrServerClosed) {
		err = nil
	}
	return err
}

// session is a conversation with who brings mail.
type session struct {
	box      *Mailbox
	from, to string
}

// Reset implements smtp.Session.
func (s *session) Reset() { s.from, s.to = "", "" }

// Logout implements smtp.Session.
func (s *session) Logout() error { return nil }

// Mail implements smtp.Session.
func (s *session) Mail(from string, _ *smtp.MailOptions) error { s.from = from; return nil }

// Rcpt implements smtp.Session.
func (s *session) Rcpt(to string, _ *smtp.RcptOptions) error {
	s.box.mu.Lock()
	refuse := s.box.refuse
	s.box.mu.Unlock()
	if err := refuse(to); err != nil {
		return err
	}
	s.to = to
	return nil
}

// Data implements smtp.Session.
func (s *session) Data(r io.Reader) error {
	text, err := io.ReadAll(io.LimitReader(r, maxLetter))
	if err != nil {
		return err
	}
	l, err := read(text)
	if err != nil {
		return &smtp.SMTPError{Code: 554, EnhancedCode: smtp.EnhancedCode{5, 6, 0},
			Message: "it is no letter: " + err.Error()}
	}
	l.From, l.To, l.At = s.from, s.to, time.Now()
	s.box.mu.Lock()
	defer s.box.mu.Unlock()
	if s.box.letters = append(s.box.letters, l); len(s.box.letters) > maxLetters {
		s.box.letters = s.box.letters[1:]
	}
	return nil
}

// read takes a letter apart (RFC 5322, RFC 2046).
func read(text []byte) (l Mail, err error) {
	m, err := mail.ReadMessage(bytes.NewReader(text))
	if err != nil {
		return l, err
	}
	l.ID = m.Header.Get("Message-ID")
	if l.Subject, err = new(mime.WordDecoder).DecodeHeader(m.Header.Get("Subject")); err != nil {
		return l, err
	}
	kind, how, err := mime.ParseMediaType(m.Header.Get("Content-Type"))
	if err != nil || !strings.HasPrefix(kind, "multipart/") {
		body, err := io.ReadAll(m.Body)
		l.Text = string(body)
		return l, err
	}
	parts := multipart.NewReader(m.Body, how["boundary"])
	for {
		p, err := parts.NextRawPart()
		if errors.Is(err, io.EOF) {
			return l, nil
		}
		if err != nil {
			return l, err
		}
		var r io.Reader = p
		if p.Header.Get("Content-Transfer-Encoding") == "quoted-printable" {
			r = quotedprintable.NewReader(p)
		}
		body, err := io.ReadAll(r)
		if err != nil {
			return l, err
		}
		if strings.HasPrefix(p.Header.Get("Content-Type"), "text/html") {
			l.HTML = string(body)
		} else {
			l.Text = string(body)
		}
	}
}

var shown = template.Must(template.New("mailbox").Parse(`<!doctype html>
<html lang="en"><head><meta charset="utf-8"><title>Mailbox, a stand-in</title>
<meta name="viewport" content="width=device-width"><style>
:root{color-scheme:light dark}
body{font:15px/1.5 system-ui,sans-serif;max-width:48rem;margin:2rem auto;padding:0 1rem}
article{border-top:1px solid #8886;padding:.75rem 0}h2{font-size:1rem;margin:0}pre{white-space:pre-wrap;font:inherit;
margin:.5rem 0 0}small{opacity:.75}</style></head><body>
<h1>Mailbox</h1>
<p><strong>This is a stand-in:</strong> what the service sends by mail ends here, and reaches nobody.</p>
{{range .}}<article><h2>{{.Subject}}</h2><small>to {{.To}}, {{.At.Format "2006-01-02 15:04:05"}}</small>
<pre>{{.Text}}</pre></article>
{{else}}<p>No letters yet.</p>{{end}}</body></html>
`))

// ServeHTTP shows what came.
func (m *Mailbox) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if r.URL.Path != "/" {
		http.NotFound(w, r)
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'")
	w.Header().Set("X-Stand-In", "mailbox")
	if err := shown.Execute(w, m.Letters()); err != nil {
		_, _ = fmt.Fprint(w, "</body></html>")
	}
}
