package standin

import (
	"context"
	"io"
	"net"
	"net/http"
	"net/smtp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAMailboxKeepsWhatItIsGivenAndSaysWhatItIs(t *testing.T) {
	m := NewMailbox()
	takes, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	page, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	ended := make(chan error, 1)
	go func() { ended <- m.Serve(ctx, takes, page) }()
	send := func(to, text string) error {
		return smtp.SendMail(takes.Addr().String(), nil, "builds@tidewick.example", []string{to}, []byte(text))
	}
	require.NoError(t, send("ada@tidewick.example", "Subject: =?utf-8?q?Gr=C3=BC=C3=9Fe_<b>?=\r\nMessage-ID: <1@x>\r\n\r\n<script>alert(1)</script>\r\n"))
	require.NoError(t, send("ben@tidewick.example", "Content-Type: multipart/alternative; boundary=b\r\nSubject: two\r\n\r\n"+
		"--b\r\nContent-Type: text/plain\r\nContent-Transfer-Encoding: quoted-printable\r\n\r\nGr=C3=BC=C3=9Fe\r\n"+
		"--b\r\nContent-Type: text/html\r\n\r\n<p>x</p>\r\n--b--\r\n"))
	assert.ErrorContains(t, send("eve@bounce.example", "Subject: x\r\n\r\nx"), "550")
	assert.Error(t, send("ada@tidewick.example", "no letter at all"))
	list := m.Letters()
	require.Len(t, list, 2)
	assert.Equal(t, "Grüße", list[0].Text)
	assert.Contains(t, list[0].HTML, "<p>x</p>")
	assert.Equal(t, "<1@x>", list[1].ID)
	res, err := http.Get("http://" + page.Addr().String())
	require.NoError(t, err)
	defer res.Body.Close()
	text, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	assert.Equal(t, "mailbox", res.Header.Get("X-Stand-In"))
	assert.Contains(t, string(text), "This is a stand-in")
	assert.Contains(t, string(text), "Grüße &lt;b&gt;")
	assert.NotContains(t, strings.ToLower(string(text)), "<script>")
	gone, err := http.Get("http://" + page.Addr().String() + "/other")
	require.NoError(t, err)
	gone.Body.Close()
	assert.Equal(t, 404, gone.StatusCode)
	cancel()
	assert.NoError(t, <-ended)
}
