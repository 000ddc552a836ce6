package roster

import (
	"bufio"
	"bytes"
	"errors"
	"io"
	"strings"
	"unicode/utf8"

	"github.com/emersion/go-vcard"

	"ombak/internal/core/plainly"
)

// cardHead are the columns that cards are read into.
var cardHead = []string{"first name", "last name", "email", "further email", "phone", "further phone", "title",
	"department", "company",
	"city", "region", "country", "language", "time zone", "profile", "tags", "note"}

type cardReader struct {
	s    *bufio.Reader
	n    int
	line int
	end  bool
}

func openVCard(r io.Reader) (Reader, error) {
	return &cardReader{s: bufio.NewReaderSize(skipMark(r), 64<<10)}, nil
}

// Head names the columns.
func (c *cardReader) Head() []string { return cardHead }

// Close ends nothing.
func (c *cardReader) Close() error { return nil }

// card reads the lines of the next card, END included. Cards are cut out here
// so that one that is wrong, too long or without an end spoils no other.
func (c *cardReader) card() (text []byte, line int, err error) {
	var b bytes.Buffer
	inside := false
	for {
		part, err := c.s.ReadSlice('\n')
		if err == bufio.ErrBufferFull {
			err = nil
		} else if err == nil || len(part) > 0 {
			c.line++
		}
		if err != nil && err != io.EOF {
			return nil, line, err
		}
		word := bytes.ToUpper(bytes.TrimSpace(part))
		switch {
		case bytes.Equal(word, []byte("BEGIN:VCARD")) && inside:
			return nil, line, &BadFile{Line: line, Reason: "the card that begins here has no end"}
		case bytes.Equal(word, []byte("BEGIN:VCARD")):
			inside, line = true, c.line
		}
		if inside && b.Len() <= MaxRecord {
			b.Write(part)
		}
		if inside && bytes.Equal(word, []byte("END:VCARD")) {
			if b.Len() > MaxRecord {
				return nil, line, errLong
			}
			return b.Bytes(), line, nil
		}
		if err == io.EOF {
			if inside {
				return nil, line,
					&BadFile{Line: line, Reason: "the card that begins here has no end: the file is cut off, perhaps"}
			}
			return nil, line, io.EOF
		}
	}
}

// Next reads the next card.
func (c *cardReader) Next() (Row, error) {
	if c.end {
		return Row{}, io.EOF
	}
	text, line, err := c.card()
	if err == nil || errors.Is(err, errLong) {
		c.n++
	}
	row := Row{N: c.n, Line: line}
	bad := func(reason string) (Row, error) {
		return row, &BadRow{Row: row, Column: -1, Reason: reason}
	}
	if errors.Is(err, errLong) {
		return bad(errLong.Error())
	}
	if err != nil {
		c.end = true
		return Row{}, err
	}
	card, err := decode(text)
	if err != nil {
		return bad("the card cannot be read")
	}
	switch v := card.Value(vcard.FieldVersion); v {
	case "3.0", "4.0":
	default:
		return bad("the card is of version " + v + "; 3.0 and 4.0 can be read")
	}
	row.Cells = cardCells(card)
	for i, s := range row.Cells {
		if !utf8.ValidString(s) {
			row.Cells[i] = strings.ToValidUTF8(s, "\ufffd")
			return row, &BadRow{Row: row, Column: i, Reason: "this is not text in UTF-8"}
		}
	}
	return row, nil
}

func decode(text []byte) (card vcard.Card, err error) {
	defer func() {
		if p := recover(); p != nil {
			err = plainly.New("it is damaged")
		}
	}()
	return vcard.NewDecoder(bytes.NewReader(hideSemicolons(text))).Decode()
}

// semicolon stands for a semicolon that is text and separates nothing, while
// the library, which does not know the difference, has the card. It is a sign
// of the private use area.
const semicolon = "\ue000"

// hideSemicolons puts it in the place of "\;" (RFC 6350, 3.4).
func hideSemicolons(text []byte) []byte {
	if !bytes.Contains(text, []byte(`\;`)) {
		return text
	}
	var b bytes.Buffer
	for i := 0; i < len(text); i++ {
		if text[i] == '\\' && i+1 < len(text) {
			if i++; text[i] == ';' {
				b.WriteString(semicolon)
			} else {
				b.Write(text[i-1 : i+1])
			}
			continue
		}
		b.WriteByte(text[i])
	}
	return b.Bytes()
}

func cardCells(card vcard.Card) []string {
	out := make([]string, len(cardHead))
	put := func(name, v string) {
		for i, h := range cardHead {
			if h == name {
				out[i] = strings.TrimSpace(strings.ReplaceAll(v, semicolon, ";"))
			}
		}
	}
	several := func(first, rest, field string) {
		var list []string
		if p := card.PreferredValue(field); p != "" {
			list = append(list, plain(p))
		}
		for _, v := range card.Values(field) {
			if v = plain(v); v != "" && (len(list) == 0 || v != list[0]) {
				list = append(list, v)
			}
		}
		if len(list) > 0 {
			put(first, list[0])
			put(rest, strings.Join(list[1:], "; "))
		}
	}
	if n := card.Name(); n != nil {
		put("first name", n.GivenName)
		put("last name", n.FamilyName)
	}
	if out[0] == "" && out[1] == "" {
		if fn := card.PreferredValue(vcard.FieldFormattedName); fn != "" {
			first, last, _ := strings.Cut(fn, " ")
			put("first name", first)
			put("last name", last)
		}
	}
	several("email", "further email", vcard.FieldEmail)
	several("phone", "further phone", vcard.FieldTelephone)
	put("title", card.PreferredValue(vcard.FieldTitle))
	if org := card.PreferredValue(vcard.FieldOrganization); org != "" {
		company, rest, _ := strings.Cut(org, ";")
		put("company", company)
		put("department", strings.ReplaceAll(rest, ";", ", "))
	}
	if a := card.Address(); a != nil {
		put("city", a.Locality)
		put("region", a.Region)
		put("country", a.Country)
	}
	put("language", card.PreferredValue(vcard.FieldLanguage))
	if tz := card.PreferredValue(vcard.FieldTimezone); strings.Contains(tz, "/") {
		put("time zone", tz) // an offset says less than the country does
	}
	put("profile", card.PreferredValue(vcard.FieldURL))
	var tags []string
	for _, t := range card.Categories() {
		if t != "" {
			tags = append(tags, t)
		}
	}
	put("tags", strings.Join(tags, "; "))
	put("note", card.PreferredValue(vcard.FieldNote))
	return out
}

// plain takes the scheme off an address or a number that is a URI.
func plain(v string) string {
	v = strings.TrimSpace(v)
	for _, p := range []string{"tel:", "mailto:"} {
		if len(v) > len(p) && strings.EqualFold(v[:len(p)], p) {
			v = v[len(p):]
			v, _, _ = strings.Cut(v, ";") // parameters, such as an extension
		}
	}
	return v
}
