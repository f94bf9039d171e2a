package demo

import (
	"crypto/sha256"
	"crypto/subtle"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"net/http"
	"strings"
	"time"
)

// depotKey is the key of the station feed. The depot is made up, and so is its key.
const depotKey = "feed-7Hq2mKx9-tidewick"

// depotDelay is how long the depot takes for each package, as one far away would.
const depotDelay = 350 * time.Millisecond

// station is one package of the depot: a harbour and its constituents (M2, S2, N2, K1, O1).
type station struct {
	name   string
	mean   float64
	values [5][2]float64 // amplitude in metres, phase in degrees
}

// speeds of the constituents in degrees an hour (Schureman 1958, table 2).
var speeds = [5]float64{28.9841042, 30.0, 28.4397295, 15.0410686, 13.9430356}

var packages = []station{
	{"Gullwick", 3.10, [5][2]float64{{1.92, 121}, {0.61, 158}, {0.38, 97}, {0.09, 12}, {0.07, 341}}},
	{"Saltern Ness", 4.46, [5][2]float64{{2.88, 140}, {0.97, 182}, {0.55, 118}, {0.11, 20}, {0.10, 355}}},
	{"Quillan Bar", 1.35, [5][2]float64{{0.71, 310}, {0.22, 348}, {0.15, 287}, {0.08, 101}, {0.06, 77}}},
	{"Otterhaven", 2.24, [5][2]float64{{1.34, 205}, {0.44, 246}, {0.27, 181}, {0.10, 66}, {0.08, 40}}},
	{"Merrow Sound", 3.87, [5][2]float64{{2.41, 171}, {0.79, 214}, {0.47, 149}, {0.12, 33}, {0.09, 8}}},
	{"Candlepoint", 0.92, [5][2]float64{{0.33, 15}, {0.11, 49}, {0.07, 352}, {0.17, 140}, {0.15, 118}}},
}

func (s station) file() string {
	return strings.ReplaceAll(strings.ToLower(s.name), " ", "-") + ".station"
}

func (s station) text() string {
	var b strings.Builder
	fmt.Fprintf(&b, "name %s\nmean %.2f\n", s.name, s.mean)
	for i, v := range s.values {
		fmt.Fprintf(&b, "%.7f %.2f %.0f\n", speeds[i], v[0], v[1])
	}
	return b.String()
}

func (s station) sum() string {
	sum := sha256.Sum256([]byte(s.text()))
	return hex.EncodeToString(sum[:])
}

// startDepot serves the packages on loopback, as a stand-in for a depot far away. port 0 takes a free one.
func startDepot(port int) (address string, stop func(), err error) {
	l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
	if err != nil {
		return "", nil, fmt.Errorf("the demo's depot cannot have its port: %w", err)
	}
	server := &http.Server{Handler: http.HandlerFunc(serveDepot), ReadHeaderTimeout: 10 * time.Second}
	go func() {
		if err := server.Serve(l); !errors.Is(err, http.ErrServerClosed) {
			panic(err) // a listener of ours on loopback has no reason to fail
		}
	}()
	return "http://" + l.Addr().String(), func() { server.Close() }, nil
}

func serveDepot(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("X-Stand-In", "this depot is part of the demo of Gentle Piston")
	if subtle.ConstantTimeCompare([]byte(r.Header.Get("X-Depot-Key")), []byte(depotKey)) != 1 {
		http.Error(w, "the feed key is missing or wrong", http.StatusForbidden)
		return
	}
	for _, p := range packages {
		if r.URL.Path == "/"+p.file() {
			time.Sleep(depotDelay)
			fmt.Fprint(w, p.text())
			return
		}
	}
	http.NotFound(w, r)
}
