// Package talk has the messages between a shell on another machine and whoever uses it. A message is a byte that says
// what it is, and what belongs to it. Either side tells how much it has taken, and neither sends more than Window
// beyond that: what floods waits where it is made.
package talk

import (
	"encoding/binary"
	"encoding/json"
	"errors"
	"strings"

	"gentlepiston.example/piston/core/plain"
)

// Kind says what a message is.
type Kind byte

// The kinds.
const (
	Data   Kind = 'd' // bytes that were typed, or printed
	End    Kind = 'e' // nothing more is typed
	Resize Kind = 'r' // the terminal is of another size
	Taken  Kind = 't' // so many bytes were taken
	Over   Kind = 'x' // it is over; nothing follows
	Word   Kind = 'w' // what whoever waits is told
	Beat   Kind = 'b' // somebody is there
)

const (
	// MaxData is the most bytes of one message of data.
	MaxData = 32 << 10
	// Window is how many bytes may be on their way in one direction.
	Window = 256 << 10
	// MaxSide is the most columns, and rows, of a terminal.
	MaxSide = 1000
)

// ErrMessage says that a message cannot be read.
var ErrMessage = errors.New("no message of a shell")

// Of makes a message.
func Of(kind Kind, body []byte) []byte { return append([]byte{byte(kind)}, body...) }

// Read tells what a message is, and what belongs to it.
func Read(message []byte) (Kind, []byte, error) {
	if len(message) == 0 {
		return 0, nil, ErrMessage
	}
	kind, body := Kind(message[0]), message[1:]
	switch kind {
	case End, Beat:
	case Data:
		if len(body) > MaxData {
			return 0, nil, ErrMessage
		}
	case Resize, Taken:
		if len(body) != 4 {
			return 0, nil, ErrMessage
		}
	case Word, Over:
		if len(body) > MaxData {
			return 0, nil, ErrMessage
		}
	default:
		return 0, nil, ErrMessage
	}
	return kind, body, nil
}

// Size is that of a terminal.
type Size struct{ Cols, Rows int }

// Within is the size a terminal is given that wants to be of one: 80 by 24 where it does not say.
func (s Size) Within() Size {
	if s.Cols < 1 || s.Rows < 1 {
		return Size{80, 24}
	}
	return Size{min(s.Cols, MaxSide), min(s.Rows, MaxSide)}
}

// OfSize makes the message that a terminal is of another size.
func OfSize(s Size) []byte {
	s = s.Within()
	m := []byte{byte(Resize)}
	m = binary.BigEndian.AppendUint16(m, uint16(s.Cols))
	return binary.BigEndian.AppendUint16(m, uint16(s.Rows))
}

// SizeOf reads the body of one.
func SizeOf(body []byte) Size {
	return Size{int(binary.BigEndian.Uint16(body)), int(binary.BigEndian.Uint16(body[2:]))}.Within()
}

// OfTaken makes the message that bytes were taken.
func OfTaken(n int) []byte { return binary.BigEndian.AppendUint32([]byte{byte(Taken)}, uint32(n)) }

// TakenOf reads the body of one.
func TakenOf(body []byte) int { return int(binary.BigEndian.Uint32(body)) }

// Ending is how a shell ended.
type Ending struct {
	Why  string `json:"why,omitempty"`  // "" by itself
	Code *int   `json:"code,omitempty"` // what it ended with
}

// OfEnding makes the message that it is over.
func OfEnding(e Ending) []byte {
	if len(e.Why) > mostWhy {
		e.Why = e.Why[:mostWhy]
	}
	text, err := json.Marshal(e)
	if err != nil {
		text = []byte("{}") // two plain fields: it never fails
	}
	return Of(Over, text)
}

// mostWhy is the most bytes of why something ended, and mostCode the greatest exit code.
const (
	mostWhy  = 500
	mostCode = 255
)

// EndingOf reads the body of one. Whoever has written it may be anybody: why is a line of text, and a code one that
// programs can end with.
func EndingOf(body []byte) (e Ending) {
	if json.Unmarshal(body, &e) != nil {
		return Ending{Why: "nobody can read why"}
	}
	if e.Why = plain.Line(e.Why); len(e.Why) > mostWhy {
		e.Why = strings.ToValidUTF8(e.Why[:mostWhy], "")
	}
	if e.Code != nil {
		code := min(max(*e.Code, 0), mostCode)
		e.Code = &code
	}
	return e
}
