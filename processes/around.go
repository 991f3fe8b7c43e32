package processes

import (
	"errors"
	"fmt"
	"net"
	"os"
	"strings"
)

// Address returns a loopback address with the usual port, or a free one if that is taken; any free one for 0.
func Address(port int) (string, error) {
	for _, p := range []int{port, 0} {
		if l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", p)); err == nil {
			defer func() { _ = l.Close() }()
			return l.Addr().String(), nil
		}
	}
	return "", errors.New("no free port on loopback")
}

// Environment gives programs of a folder each other on their path, for launchers find their programs there, and nothing of the
// caller's own Rotanex settings.
func Environment(bin string) []string {
	var out []string
	for _, e := range os.Environ() {
		if !strings.HasPrefix(e, "ROTANEX_") && !strings.HasPrefix(e, "PATH=") {
			out = append(out, e)
		}
	}
	return append(out, "PATH="+bin+string(os.PathListSeparator)+os.Getenv("PATH"), "TZ=UTC")
}
