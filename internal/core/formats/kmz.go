package formats

import (
	"archive/zip"
	"bufio"
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"
)

// Limits of an archive.
const (
	maxArchive  = 64 << 20 // bytes
	maxUnpacked = 2 << 30  // bytes of the files in it, together
)

// openKMZ reads the KML files of an archive one after the other, so links between them are
// followed. It unpacks as it reads, and no more than maxUnpacked.
func openKMZ(b *bufio.Reader, outer *guard, mender *mender, options Options, survey *Survey) (Reader, error) {
	outer.max = maxArchive + 1 // the archive is one row, so to say
	all, err := io.ReadAll(io.LimitReader(b, maxArchive+1))
	if err != nil && !errors.Is(err, errRowTooLong) {
		return nil, err
	}
	if len(all) > maxArchive || err != nil {
		return nil, notUsable("it is larger than %d MiB; unpack it and import the KML files in it", maxArchive>>20)
	}
	archive, err := zip.NewReader(bytes.NewReader(all), int64(len(all)))
	if err != nil {
		return nil, notUsable("it is not a whole ZIP archive: %v", err)
	}
	a := &kmlArchive{mender: mender, survey: survey, encoding: options.Encoding, left: maxUnpacked}
	for _, f := range archive.File {
		if strings.EqualFold(path.Ext(f.Name), ".kml") {
			a.files = append(a.files, f)
		} else if !strings.HasSuffix(f.Name, "/") {
			survey.leave("files that are not KML ("+strings.ToLower(path.Ext(f.Name))+")", 1)
		}
	}
	if len(a.files) == 0 {
		return nil, notUsable("it is a ZIP archive without a KML file")
	}
	// The first one, or doc.kml, is the one that links to the others.
	slices.SortStableFunc(a.files, func(a, b *zip.File) int {
		return cmp.Compare(strings.Count(a.Name, "/")*2+first(a), strings.Count(b.Name, "/")*2+first(b))
	})
	if err := a.advance(); err != nil {
		return nil, err
	}
	return newTypedReader(a, options, survey), nil
}

func first(f *zip.File) int {
	if f.Name == "doc.kml" {
		return -1
	}
	return 0
}

// A kmlArchive gives the rows of several KML files.
type kmlArchive struct {
	files    []*zip.File // the one at hand is the first
	source   *xmlSource
	mender   *mender
	survey   *Survey
	encoding string // that is asked for, or ""
	rows     int    // of the files before
	left     int64  // bytes that may still be unpacked
}

// advance begins with the first file.
func (a *kmlArchive) advance() error {
	f := a.files[0]
	unpacked, err := f.Open()
	if err != nil {
		return notUsable("%s in it cannot be unpacked: %v", f.Name, err)
	}
	var found encoding
	decoded, err := decode(&bounded{unpacked, &a.left, maxUnpacked}, a.encoding, &found)
	if err != nil {
		return fmt.Errorf("%s in it: %w", f.Name, err)
	}
	if found.told() {
		a.survey.encoding.name = found.name
	}
	guard := &guard{r: decoded, max: MaxRowBytes, taping: true}
	a.source = newKMLSource(bufio.NewReaderSize(guard, 64<<10), guard, a.mender, a.survey)
	a.source.row = a.rows
	a.source.has = a.has
	return nil
}

// has reports whether a link leads to a file of the archive.
func (a *kmlArchive) has(href string) bool {
	name := strings.TrimPrefix(path.Clean(strings.TrimSpace(href)), "./")
	return strings.EqualFold(path.Ext(name), ".kml") && !strings.Contains(href, "://")
}

// next implements textSource.
func (a *kmlArchive) next() (textRow, error) {
	for {
		row, err := a.source.next()
		if err == nil {
			return row, nil
		}
		if !errors.Is(err, io.EOF) {
			if len(a.files) > 0 && errors.Is(err, ErrNotUsable) {
				err = fmt.Errorf("%w (in %s)", err, a.files[0].Name)
			}
			return row, err
		}
		a.rows = a.source.row
		if a.files = a.files[1:]; len(a.files) == 0 {
			a.files = nil
			return row, io.EOF
		}
		if err := a.advance(); err != nil {
			return row, err
		}
	}
}

// A bounded reader fails if there is more than it may read, together with others.
type bounded struct {
	r    io.Reader
	left *int64
	most int64 // as many were left at first
}

func (b *bounded) Read(p []byte) (int, error) {
	if *b.left <= 0 {
		return 0, notUsable("it unpacks to more than %d GiB", b.most>>30)
	}
	n, err := b.r.Read(p[:min(int64(len(p)), *b.left)])
	*b.left -= int64(n)
	return n, err
}
