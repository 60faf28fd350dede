package httpapi

import (
	"encoding/json"
	"errors"
	"io"
	"maps"
	"mime"
	"net/http"
	"slices"
	"strings"
	"time"

	"idlebeacon/internal/core/wellformed"
)

// An upload is a file that a request brings, and the parameters that say how to read
// it. The file is the body or, if that is a form (RFC 7578), its part "file"; before
// it a form may have a part "options", a JSON object with the same parameters as the
// query. It is read as it arrives.
type upload struct {
	*query
	io.Reader
	connection *http.ResponseController
	mediaType  string // of the file, as the client calls it
	size       int64  // of the file in bytes; 0 if it is not known
}

// parseUpload reads what comes before the file. Of the parameters only the named ones are
// allowed.
func parseUpload(w http.ResponseWriter, r *http.Request, names ...string) *upload {
	u := &upload{
		query: parseQuery(r, names...), Reader: r.Body, connection: http.NewResponseController(w),
		mediaType: r.Header.Get("Content-Type"), size: max(0, r.ContentLength),
	}
	if media, _, err := mime.ParseMediaType(u.mediaType); err != nil || media != "multipart/form-data" || u.err != nil {
		return u
	}
	form, err := r.MultipartReader()
	if err != nil {
		u.fail("body", "is not a form that can be read: %v", err)
		return u
	}
	part, err := form.NextPart()
	if err == nil && part.FormName() == "options" {
		u.addOptions(part, names)
		part, err = form.NextPart()
	}
	switch {
	case err != nil && !errors.Is(err, io.EOF):
		u.fail("body", "is not a form that can be read: %v", err)
	case err != nil || part.FormName() != "file":
		u.fail("file", "is missing: the form wants a part with this name, after at most one with the name options")
	default:
		u.Reader, u.mediaType, u.size = part, part.Header.Get("Content-Type"), 0
		if err := wellformed.Text(part.FileName()); err != nil {
			u.fail("file_name", "%v", err)
		}
		if name := part.FileName(); name != "" && slices.Contains(names, "file_name") && !u.has("file_name") {
			u.values.Set("file_name", name)
		}
	}
	return u
}

// Interrupt lets a Read that waits for the client return with an error.
func (u *upload) Interrupt() {
	_ = u.connection.SetReadDeadline(time.Now()) // if it cannot, the next bytes end it
}

// maxOptions is how much JSON may say how to read a file, in bytes.
const maxOptions = 256 << 10

// addOptions adds the members of a JSON object to the parameters: an array as a list, an
// object as a list of names and values.
func (u *upload) addOptions(r io.Reader, names []string) {
	var members map[string]any
	raw, err := io.ReadAll(io.LimitReader(r, maxOptions+1))
	if err == nil && len(raw) > maxOptions {
		err = errors.New("it is longer")
	}
	if err == nil {
		err = wellformed.JSON(raw)
	}
	if err == nil {
		err = json.Unmarshal(raw, &members)
	}
	if err != nil {
		u.fail("options", "is not a JSON object of at most %s: %v", byteCount(maxOptions), err)
		return
	}
	for _, name := range slices.Sorted(maps.Keys(members)) {
		value, ok := parameter(members[name])
		switch {
		case !slices.Contains(names, name):
			u.fail("options."+name, "is not known; options takes %s", strings.Join(names, ", "))
		case u.values.Has(name):
			u.fail("options."+name, "is given in the query as well")
		case !ok:
			u.fail("options."+name, "wants text, true or false, a list of texts, or an object of texts")
		}
		u.values.Set(name, value)
	}
}

// parameter writes a JSON value as a parameter of a query.
func parameter(value any) (text string, ok bool) {
	var list []string
	switch value := value.(type) {
	case string:
		return value, true
	case bool:
		return map[bool]string{true: "true", false: "false"}[value], true
	case []any:
		for _, element := range value {
			text, ok := element.(string)
			if !ok {
				return "", false
			}
			list = append(list, listEscape.Replace(text))
		}
	case map[string]any:
		for _, name := range slices.Sorted(maps.Keys(value)) {
			text, ok := value[name].(string)
			if !ok {
				return "", false
			}
			list = append(list, listEscape.Replace(name)+":"+text)
		}
	default:
		return "", false
	}
	return strings.Join(list, ","), true
}

// listEscape writes an element of a list, as splitList reads it.
var listEscape = strings.NewReplacer(`\`, `\\`, ",", `\,`)
