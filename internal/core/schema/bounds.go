package schema

import (
	"strconv"
	"strings"

	"idlebeacon/internal/core/invalid"
)

// maxWeight is how many subschemas a schema may have, each counted as often as it is referred to.
const maxWeight = 2000

// What of a schema holds schemas by names, and what holds values that are no schemas.
var (
	byName = map[string]bool{"properties": true, "patternProperties": true, "$defs": true, "definitions": true,
		"dependentSchemas": true}
	values = map[string]bool{"enum": true, "const": true, "default": true, "examples": true, "required": true,
		"dependentRequired": true, "type": true}
	// refused would refer to other documents, or to themselves in ways that cannot be told in advance.
	refused = []string{"$dynamicRef", "$dynamicAnchor", "$recursiveRef", "$recursiveAnchor", "$anchor", "$vocabulary"}
)

// bounded returns what makes a schema refer to other documents or to itself, or too large.
func bounded(document map[string]any) error {
	if dialect, given := document["$schema"]; given && dialect != Dialect && dialect != Dialect+"#" {
		return invalid.New("$schema", "is %v", dialect).Wanted("%q", Dialect)
	}
	w := &weighing{document: document, within: map[string]bool{}}
	_, err := w.weigh(document, true)
	return err
}

// A weighing counts the subschemas of a schema.
type weighing struct {
	document map[string]any
	within   map[string]bool // the references that are being followed
}

// weigh returns how many subschemas a schema has, itself included.
func (w *weighing) weigh(value any, root bool) (int, error) {
	total := 1
	add := func(value any) error {
		n, err := w.weigh(value, false)
		if total += n; err == nil && total > maxWeight {
			err = invalid.New("schema", "has more than %d parts, with those counted again that are referred to", maxWeight).
				Wanted("a smaller one")
		}
		return err
	}
	switch v := value.(type) {
	case []any:
		for _, e := range v {
			if err := add(e); err != nil {
				return 0, err
			}
		}
	case map[string]any:
		for _, keyword := range refused {
			if _, there := v[keyword]; there {
				return 0, invalid.New("schema", "has %s", keyword).Wanted("$ref to a part of the schema itself")
			}
		}
		if _, there := v["$id"]; there && !root {
			return 0, invalid.New("schema", "has a part with an $id of its own").Wanted("one document")
		}
		for keyword, value := range v {
			var err error
			named, _ := value.(map[string]any)
			switch {
			case values[keyword]:
			case keyword == "$ref":
				err = w.follow(value, add)
			case byName[keyword]:
				for _, part := range named {
					if err = add(part); err != nil {
						break
					}
				}
			default:
				err = add(value)
			}
			if err != nil {
				return 0, err
			}
		}
	}
	return total, nil
}

// follow adds what a reference refers to.
func (w *weighing) follow(value any, add func(any) error) error {
	ref, _ := value.(string)
	path, local := strings.CutPrefix(ref, "#")
	if !local {
		return invalid.New("schema", "refers to %q", ref).Wanted(`a part of itself, such as "#/$defs/name"`)
	}
	if w.within[ref] {
		return invalid.New("schema", "refers to itself by %q", ref).Wanted("one that ends")
	}
	to := any(w.document)
	for _, step := range strings.Split(path, "/")[1:] {
		step = strings.NewReplacer("~1", "/", "~0", "~").Replace(step)
		switch v := to.(type) {
		case map[string]any:
			to = v[step]
		case []any:
			i, err := strconv.Atoi(step)
			if to = nil; err == nil && i >= 0 && i < len(v) {
				to = v[i]
			}
		default:
			to = nil
		}
	}
	if to == nil || path == "" {
		return invalid.New("schema", "refers to %q, which is not there", ref).Wanted("a part of itself")
	}
	w.within[ref] = true
	defer delete(w.within, ref)
	return add(to)
}
