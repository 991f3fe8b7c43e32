// Package framefiles says what files a frame may have beside its picture (layers, data, statistics): what they may be called, and
// how each kind is checked before it counts.
package framefiles

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strings"
	"unicode/utf8"

	"rotanex.example/core/picture"
)

// Kinds of files.
const (
	Picture = "picture" // of the frame's size, whole; it may be one flat colour, as a matte of nothing is
	JSON    = "json"    // one JSON value
	Text    = "text"    // UTF-8
	Data    = "data"    // anything
)

// Kinds are all of them.
var Kinds = []string{Picture, JSON, Text, Data}

// ErrUnfit says that it is the file that is wrong.
var ErrUnfit = errors.New("the file is not what it should be")

var name, ending = regexp.MustCompile(`^[A-Za-z0-9_][A-Za-z0-9_-]{0,59}$`), regexp.MustCompile(`^[A-Za-z0-9]{1,10}$`)

// Most is how many a frame has at most.
const Most = 100

// Main is what no file beside the picture is called.
const Main = "picture"

// ValidName says what is wrong with the name of a file among those of its frame.
func ValidName(s string) error {
	if !name.MatchString(s) || strings.EqualFold(s, Main) {
		return fmt.Errorf("%q: want at most 60 letters, digits, '_' and '-', such as depth, and not %q", s, Main)
	}
	return nil
}

// ValidEnding says what is wrong with the ending of a file.
func ValidEnding(s string) error {
	if !ending.MatchString(s) {
		return fmt.Errorf("%q: want at most 10 letters and digits, such as exr", s)
	}
	return nil
}

// Check reads a whole file of so many bytes, of a frame of width x height pixels. The error wraps ErrUnfit where the file is wrong.
func Check(kind string, r io.Reader, bytes int64, width, height int) error {
	if bytes == 0 {
		return fmt.Errorf("%w: it is empty", ErrUnfit)
	}
	switch kind {
	case Picture:
		return Seen(picture.Check(r, bytes, width, height))
	case JSON:
		return oneValue(r)
	case Text:
		return isText(r)
	case Data:
		return nil
	}
	return fmt.Errorf("%w: kind %q: want %s", ErrUnfit, kind, strings.Join(Kinds, ", "))
}

// Seen is what the check of a picture means for one beside the frame's own.
func Seen(_ picture.Info, err error) error {
	if err == nil || errors.Is(err, picture.ErrBlank) {
		return nil
	}
	if errors.Is(err, picture.ErrUndecodable) || errors.Is(err, picture.ErrWrongSize) {
		return fmt.Errorf("%w: %w", ErrUnfit, err)
	}
	return err
}

// oneValue reads JSON token by token: no more of it is held than the longest.
func oneValue(r io.Reader) error {
	d, depth, values := json.NewDecoder(r), 0, 0
	d.UseNumber()
	for {
		t, err := d.Token()
		switch {
		case errors.Is(err, io.EOF) && values == 1 && depth == 0:
			return nil
		case errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF):
			return fmt.Errorf("%w: its JSON ends too early", ErrUnfit)
		case isSyntax(err):
			return fmt.Errorf("%w: JSON: %w", ErrUnfit, err)
		case err != nil:
			return err
		}
		switch t {
		case json.Delim('{'), json.Delim('['):
			depth++
		case json.Delim('}'), json.Delim(']'):
			depth--
		}
		if depth == 0 {
			values++
		}
		if values > 1 {
			return fmt.Errorf("%w: it has more than one JSON value", ErrUnfit)
		}
	}
}

func isSyntax(err error) bool {
	var syntax *json.SyntaxError
	return errors.As(err, &syntax)
}

func isText(r io.Reader) error {
	in := bufio.NewReaderSize(r, 64<<10)
	for at := int64(0); ; {
		c, size, err := in.ReadRune()
		switch {
		case errors.Is(err, io.EOF):
			return nil
		case err != nil:
			return err
		case c == utf8.RuneError && size == 1 || c == 0:
			return fmt.Errorf("%w: byte %d is no text in UTF-8", ErrUnfit, at)
		}
		at += int64(size)
	}
}
