package cli

import (
	"bytes"
	"io"
	"net/http"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"rotanex.example/api/client"
)

// Names, logs and causes come from others: from agents, renderers, sources. What a terminal or a spreadsheet would take
// for more than text is taken out where it arrives; --output json prints it as JSON writes it.

// cleaning is a client whose answers have nothing in their texts that a terminal obeys.
type cleaning struct {
	next client.HttpRequestDoer
	raw  bool // the answers are printed as JSON
}

// Do implements client.HttpRequestDoer.
func (c cleaning) Do(r *http.Request) (*http.Response, error) {
	answer, err := c.next.Do(r)
	if err != nil || c.raw {
		return answer, err
	}
	var clean func([]byte) []byte
	switch kind := answer.Header.Get("Content-Type"); {
	case strings.Contains(kind, "json"):
		clean = cleanJSON
	case strings.HasPrefix(kind, "text/plain"):
		clean = cleanText
	default:
		return answer, nil
	}
	data, err := io.ReadAll(answer.Body)
	_ = answer.Body.Close()
	if err != nil {
		return nil, err
	}
	data = clean(data)
	answer.Body, answer.ContentLength = io.NopCloser(bytes.NewReader(data)), int64(len(data))
	return answer, nil
}

// obeyed reports whether a terminal does something else with a character than show it: control characters but for new lines
// and tabs, and those that turn the order of writing.
func obeyed(r rune) bool {
	return unicode.IsControl(r) && r != '\n' && r != '\t' || r >= 0x202a && r <= 0x202e || r >= 0x2066 && r <= 0x2069
}

// cleanText puts U+FFFD in the place of such characters in a text.
func cleanText(data []byte) []byte {
	return bytes.Map(func(r rune) rune {
		switch {
		case r == '\r':
			return '\n'
		case obeyed(r):
			return utf8.RuneError
		}
		return r
	}, data)
}

// cleanJSON puts U+FFFD in the place of such characters in the texts of JSON, however they are written.
func cleanJSON(data []byte) []byte {
	var out bytes.Buffer
	for i := 0; i < len(data); {
		if data[i] == '\\' && i+1 < len(data) {
			i += escape(&out, data[i:])
			continue
		}
		r, size := utf8.DecodeRune(data[i:])
		if obeyed(r) && r >= 0x7f { // what is below is not in texts, unescaped
			r = utf8.RuneError
		}
		out.WriteRune(r)
		i += size
	}
	return out.Bytes()
}

// escape writes an escape of JSON, cleaned, and says how long it was.
func escape(out *bytes.Buffer, data []byte) int {
	switch data[1] {
	case 'b', 'f':
		out.WriteString(`\ufffd`)
	case 'r':
		out.WriteString(`\n`)
	case 'u':
		if len(data) < 6 {
			break
		}
		if v, err := strconv.ParseUint(string(data[2:6]), 16, 32); err == nil && obeyed(rune(v)) {
			out.WriteString(`\ufffd`)
		} else {
			out.Write(data[:6])
		}
		return 6
	default:
		out.Write(data[:2])
	}
	return 2
}

// asCell is a text for a spreadsheet, that takes what begins like a formula for one.
func asCell(text string) string {
	if text == "" || !strings.ContainsRune("=+-@\t\r", rune(text[0])) {
		return text
	}
	if _, err := strconv.ParseFloat(text, 64); err == nil {
		return text
	}
	return "'" + text
}
