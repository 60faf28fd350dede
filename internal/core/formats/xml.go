package formats

import (
	"bufio"
	"bytes"
	"encoding/xml"
	"errors"
	"io"
	"slices"
	"strings"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/geometry"
	"idlebeacon/internal/core/invalid"
)

// An xmlSource walks through an XML file and gives what one function makes of its
// elements. Entities are not expanded and nothing outside the file is read.
type xmlSource struct {
	decoder *xml.Decoder
	tokens  *shallow
	guard   *guard
	mender  *mender
	survey  *Survey
	root    string // the name of the outermost element
	rooted  bool   // it has been met
	row     int
	around  []enclosing // the elements around, the innermost last
	// element makes a row of an element, or reports that it is none.
	element func(s *xmlSource, start xml.StartElement) (textRow, bool, error)
	// has reports whether a link leads to what is read anyway; nil if nothing is.
	has func(href string) bool
}

// An enclosing is an element around others.
type enclosing struct {
	folder bool
	name   string // of a folder
}

// enter notes that what follows is in an element.
func (s *xmlSource) enter(start xml.StartElement) {
	s.around = append(s.around, enclosing{folder: start.Name.Local == "Folder"})
}

// pass passes over an element that has no place in a feature, and counts it.
func (s *xmlSource) pass(what string) error {
	s.survey.leave(what, 1)
	return s.decoder.Skip()
}

// maxXMLDepth is how deep the elements of a file may be nested.
const maxXMLDepth = 100

func newXMLSource(b *bufio.Reader, guard *guard, mender *mender, survey *Survey) *xmlSource {
	tokens := &shallow{d: xml.NewDecoder(b)}
	// It has been decoded before, whatever its declaration says.
	tokens.d.CharsetReader = func(_ string, r io.Reader) (io.Reader, error) { return r, nil }
	return &xmlSource{
		decoder: xml.NewTokenDecoder(tokens),
		tokens:  tokens,
		guard:   guard,
		mender:  mender,
		survey:  survey,
	}
}

// A shallow reader of tokens fails if elements are nested too deep.
type shallow struct {
	d     *xml.Decoder
	depth int
	begin int64 // where the last token begins in the file
}

// Token implements xml.TokenReader.
func (s *shallow) Token() (xml.Token, error) {
	s.begin = s.d.InputOffset()
	token, err := s.d.Token()
	switch token.(type) {
	case xml.StartElement:
		s.depth++
	case xml.EndElement:
		s.depth--
	}
	if s.depth > maxXMLDepth {
		return nil, invalid.New("", "elements are nested too deep").Wanted("at most %d levels", maxXMLDepth)
	}
	return token, err
}

func (s *xmlSource) next() (textRow, error) {
	s.guard.newRowAt(s.tokens.d.InputOffset())
	for {
		token, err := s.decoder.Token()
		switch {
		case errors.Is(err, io.EOF):
			if len(s.around) > 0 {
				return textRow{}, notUsable(
					"it ends in the middle, after %d whole features; it may have been cut off",
					s.row,
				)
			}
			if !s.rooted {
				return textRow{}, notUsable("there is no element <%s> in it", s.root)
			}
			return textRow{}, io.EOF
		case err != nil:
			return textRow{}, s.broken(err)
		}
		switch token := token.(type) {
		case xml.StartElement:
			if !s.rooted && !strings.EqualFold(token.Name.Local, s.root) {
				return textRow{}, notUsable("its outermost element is <%.40s>, want <%s>", token.Name.Local, s.root)
			}
			s.rooted = true
			from := s.tokens.begin
			row, is, err := s.element(s, token)
			if err != nil {
				return textRow{}, s.broken(err)
			}
			if is {
				if bad := (*RowError)(nil); errors.As(row.err, &bad) {
					bad.Source = s.inFolder(s.guard.cut(from, s.tokens.d.InputOffset()))
				}
				return row, nil
			}
		case xml.EndElement:
			if len(s.around) > 0 {
				s.around = s.around[:len(s.around)-1]
			}
		case xml.Directive:
			if bytes.Contains(bytes.ToUpper(token), []byte("ENTITY")) {
				return textRow{}, notUsable("it declares entities, which are not read; save it without a document type")
			}
		}
	}
}

// folders returns the names of the folders around, the outermost first. Those without a
// name are left out.
func (s *xmlSource) folders() (names []string) {
	for _, e := range s.around {
		if name := strings.TrimSpace(e.name); e.folder && name != "" {
			names = append(names, name)
		}
	}
	return names
}

// inFolder puts the source of a row, if there is one, into folders of the same names
// as those around it, which would be lost otherwise.
func (s *xmlSource) inFolder(source []byte) []byte {
	names := s.folders()
	if source == nil || len(names) == 0 {
		return source
	}
	var b bytes.Buffer
	for _, name := range names {
		b.WriteString("<Folder><name>")
		_ = xml.EscapeText(&b, []byte(name)) // to memory
		b.WriteString("</name>")
	}
	b.Write(source)
	b.WriteString(strings.Repeat("</Folder>", len(names)))
	return b.Bytes()
}

func (s *xmlSource) broken(err error) error {
	if errors.Is(err, errRowTooLong) {
		return notUsable("feature %d is longer than %d bytes", s.row+1, MaxRowBytes)
	}
	var syntax *xml.SyntaxError
	cutOff := errors.Is(err, io.ErrUnexpectedEOF) || errors.As(err, &syntax) && syntax.Msg == "unexpected EOF"
	switch {
	case syntax != nil && !cutOff:
		return notUsable("it is not well-formed XML at line %d: %s", syntax.Line, syntax.Msg)
	case cutOff:
		return notUsable("it ends in the middle, after %d whole features; it may have been cut off", s.row)
	}
	return notUsable("it cannot be read: %v", err)
}

// An element is an XML element of any kind.
type element struct {
	XMLName  xml.Name
	Name     string    `xml:"name,attr"`
	Text     string    `xml:",chardata"`
	Children []element `xml:",any"`
}

// properties adds what an element says as values: its text under its name, or what its
// children say under their names behind it. What is there already stays.
func (e *element) properties(before string, to *fields) {
	name := before + e.XMLName.Local
	if len(e.Children) == 0 {
		if !slices.Contains(to.names, name) {
			to.add(name, e.Text)
		}
		return
	}
	for i := range e.Children {
		e.Children[i].properties(name+"/", to)
	}
}

// fields gathers the values of a row.
type fields struct{ names, values []string }

// add adds a value unless it is empty.
func (f *fields) add(name, value string) {
	if strings.TrimSpace(value) != "" {
		f.set(name, value)
	}
}

// set adds a value. Of those with the same name the last counts.
func (f *fields) set(name, value string) {
	value = strings.TrimSpace(value)
	for i, known := range f.names {
		if known == name {
			f.values[i] = value
			return
		}
	}
	if name != "" {
		f.names, f.values = append(f.names, name), append(f.values, value)
	}
}

// place sets and checks the geometry and the id of a row, and returns what is wrong
// with them as a *RowError.
func (s *xmlSource) place(row *textRow, read func() (geometry.Geometry, error)) error {
	g, err := read()
	if err == nil && g.Type == "" {
		err = invalid.New("", "has no geometry that can be read")
	}
	if err == nil {
		err = s.mender.check(&g)
	}
	row.applied, row.closed = s.mender.taken()
	if err == nil && row.feature.ID != "" {
		err = feature.CheckID(row.feature.ID)
	}
	if err != nil {
		return rejection(row.number, 0, err, nil)
	}
	row.feature.SetGeometry(g)
	return nil
}
