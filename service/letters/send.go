package letters

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strconv"
	"time"

	"github.com/wneessen/go-mail"

	"gentlepiston.example/piston/service/ground"
	"gentlepiston.example/piston/store"
)

// Server is what sends mail. The zero value sends none.
type Server struct {
	Address  string // host and port; on port 465 TLS from the beginning (RFC 8314), elsewhere STARTTLS (RFC 3207)
	From     string
	User     string
	Password string
	// Plain sends without TLS. It is for a server on this machine.
	Plain bool
}

// Check refuses a server that would send in the open, or in nobody's name.
func (s Server) Check() error {
	if s.Address == "" {
		return nil
	}
	host, port, err := net.SplitHostPort(s.Address)
	if err != nil || host == "" || port == "" {
		return fmt.Errorf("the mail server %q is not written as HOST:PORT", s.Address)
	}
	ip := net.ParseIP(host)
	if s.Plain && host != "localhost" && (ip == nil || !ip.IsLoopback()) {
		return fmt.Errorf("mail to %s would go in the open: without TLS only a server on this machine is spoken to", host)
	}
	return nil
}

const (
	// sendWithin is how long a mail server may take for one letter.
	sendWithin = time.Minute
	// tryFor is how long a letter is tried.
	tryFor = 24 * time.Hour
)

// due sends a letter.
func (s *Letters) due(ctx context.Context, of letterDue) error {
	l, err := s.Store.LetterByID(ctx, of.Letter)
	if err != nil || l.State != store.LetterQueued {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, sendWithin)
	defer cancel()
	err = s.send(ctx, l)
	if err == nil {
		return s.Store.SetLetter(context.WithoutCancel(ctx), l.ID, store.LetterSent, "")
	}
	age := time.Since(l.Queued)
	if refused(err) || age > tryFor {
		return s.Store.SetLetter(context.WithoutCancel(ctx), l.ID, store.LetterRefused, err.Error())
	}
	if err := s.Store.SetLetter(context.WithoutCancel(ctx), l.ID, store.LetterQueued, err.Error()); err != nil {
		return err
	}
	return ground.InAWhile(min(max(age, 5*time.Second), 30*time.Minute)) // ever more seldom
}

// refused tells that a mail server will not take it, however often it is asked (RFC 5321, 4.2.1).
func refused(err error) bool {
	var send *mail.SendError
	return errors.As(err, &send) && !send.IsTemp() && send.ErrorCode() >= 500
}

func (s *Letters) send(ctx context.Context, l store.Letter) error {
	m := mail.NewMsg()
	if err := m.From(s.server.From); err != nil {
		return err
	}
	if err := m.To(l.To); err != nil {
		return err
	}
	m.Subject(l.Subject)
	m.SetDateWithValue(l.Queued)
	_, domain := splitAddress(s.server.From)
	m.SetMessageIDWithValue(fmt.Sprintf("letter-%d-%d@%s", l.ID, l.Queued.UnixMicro(), domain))
	m.SetGenHeader("Auto-Submitted", "auto-generated") // RFC 3834, 5
	if l.Stop != "" {                                  // RFC 2369, 3.2; RFC 8058
		m.SetGenHeader("List-Unsubscribe", "<"+l.Stop+">")
		m.SetGenHeader("List-Unsubscribe-Post", "List-Unsubscribe=One-Click")
	}
	m.SetBodyString(mail.TypeTextPlain, l.Plain)
	m.AddAlternativeString(mail.TypeTextHTML, l.HTML)
	c, err := s.client()
	if err != nil {
		return err
	}
	return c.DialAndSendWithContext(ctx, m)
}

func (s *Letters) client() (*mail.Client, error) {
	host, text, err := net.SplitHostPort(s.server.Address)
	if err != nil {
		return nil, err
	}
	port, err := strconv.Atoi(text)
	if err != nil {
		return nil, err
	}
	options := []mail.Option{mail.WithPort(port), mail.WithTimeout(sendWithin / 2)}
	switch {
	case s.server.Plain:
		options = append(options, mail.WithTLSPortPolicy(mail.NoTLS), mail.WithPort(port))
	case port == 465:
		options = append(options, mail.WithSSL())
	default:
		options = append(options, mail.WithTLSPortPolicy(mail.TLSMandatory), mail.WithPort(port))
	}
	if s.server.User != "" {
		options = append(options, mail.WithSMTPAuth(mail.SMTPAuthAutoDiscover), mail.WithUsername(s.server.User),
			mail.WithPassword(s.server.Password))
	}
	return mail.NewClient(host, options...)
}

func splitAddress(text string) (name, domain string) {
	for i := len(text) - 1; i >= 0; i-- {
		if text[i] == '@' {
			return text[:i], text[i+1:]
		}
	}
	return text, "piston.invalid"
}
