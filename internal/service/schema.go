package service

import (
	"context"
	"errors"
	"slices"
	"sync/atomic"

	"idlebeacon/internal/admission"
	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/filter"
	"idlebeacon/internal/core/schema"
	"idlebeacon/internal/core/shapes"
	"idlebeacon/internal/fault"
	"idlebeacon/internal/store"
)

// A Schema says what the items of a collection have to be.
type Schema struct {
	Document []byte // in JSON
	Derived  bool   // nobody has said: this only tells what the items are
	Change   uint64 // the newest change to the collection itself or, of a derived one, to anything in it
}

// derived is a schema that was derived from the items of a collection, as of a change.
type derived struct {
	newest   uint64
	document []byte
}

type derivedKey struct{} // of what is kept beside a collection

// Schema returns what the items of a collection have to be or, if nobody has said, what they are.
func (s *Service) Schema(ctx context.Context, collection string) (Schema, error) {
	c, err := s.collection(ctx, collection)
	if err != nil {
		return Schema{}, err
	}
	if info := c.Info(); info.Schema != nil {
		return Schema{Document: []byte(*info.Schema), Change: info.Change}, nil
	}
	newest, _ := c.Newest()
	beside := c.Beside(derivedKey{}, func() any { return new(atomic.Pointer[derived]) })
	kept := beside.(*atomic.Pointer[derived])
	if d := kept.Load(); d != nil && d.newest == newest {
		return Schema{d.document, true, newest}, nil
	}
	document, err := s.derive(ctx, c)
	if err != nil {
		return Schema{}, err
	}
	kept.Store(&derived{newest, document})
	return Schema{document, true, newest}, nil
}

// derive looks at all items of a collection and tells what they have in common.
func (s *Service) derive(ctx context.Context, c *collection) ([]byte, error) {
	names, err := s.columns(ctx, c)
	if err != nil {
		return nil, err
	}
	snapshot, areas := c.Places(), c.Shapes()
	release, err := s.lookAt(ctx, snapshot.Len(), 0)
	if err != nil {
		return nil, err
	}
	defer release()
	properties := make([]schema.Property, len(names))
	at := make(map[string]int, len(names))
	for i, name := range names {
		properties[i].Name, at[name] = name, i
	}
	sorted := slices.Sorted(slices.Values(names))
	values := snapshot.Values(sorted)
	for e := range while(ctx, snapshot.Tree().All()) {
		for i, v := range values(e) {
			properties[at[sorted[i]]].Kind |= kindOf(v)
		}
	}
	areas.All(func(shape *shapes.Shape) {
		for quoted, value := range shape.Properties.All() {
			if i, known := at[feature.Unquote(quoted)]; known {
				properties[i].Kind |= kindOf(filter.JSONValue(value))
			}
		}
	})
	return schema.Derived(c.Info().Title, properties, areas.Len() == 0 && snapshot.Len() > 0), ctx.Err()
}

func kindOf(v filter.Value) schema.Kind {
	switch v.Kind {
	case filter.Bool:
		return schema.Boolean
	case filter.Number:
		return schema.Number
	case filter.Text:
		return schema.Text
	case filter.Other:
		return schema.Other
	}
	return 0
}

// MaxFailing is how many items that are not as a schema wants them are told.
const MaxFailing = 100

// A SchemaReport says which items of a collection are not as a schema wants them.
type SchemaReport struct {
	Checked, Failing int
	First            []FailingItem // the first MaxFailing of them, in the order of their ids
}

// A FailingItem is an item that is not as a schema wants it.
type FailingItem struct {
	ID       string
	Problems []schema.Problem
}

// CheckSchema tries a schema, in JSON, on all items of a collection.
func (s *Service) CheckSchema(ctx context.Context, collection string, raw []byte) (SchemaReport, error) {
	c, err := s.collection(ctx, collection)
	if err != nil {
		return SchemaReport{}, err
	}
	rules, err := schema.Parse(raw)
	if err != nil {
		return SchemaReport{}, err
	}
	return s.checkAll(ctx, c, rules)
}

// SetSchema says what the items of a collection have to be, as a schema in JSON, nil for anything.
// Items that are not so stay as they are until they are edited; the report has them. since is as in
// [Service.SetStyle].
func (s *Service) SetSchema(
	ctx context.Context,
	collection string,
	raw []byte,
	since []uint64,
) (report SchemaReport, err error) {
	c, err := s.collection(ctx, collection)
	if err != nil {
		return report, err
	}
	var text *string
	var rules *schema.Schema
	if raw != nil {
		if rules, err = schema.Parse(raw); err != nil {
			return report, err
		}
		text = new(string)
		*text = string(raw)
	}
	_, _, err = s.store.UpdateCollection(ctx, byEdit(ctx), c.Info().Key, func(info *store.Collection) error {
		if since != nil && !slices.Contains(since, info.Change) {
			return &fault.ChangedError{What: "the schema of collection", ID: collection}
		}
		info.Schema = text
		return nil
	})
	if err != nil {
		return report, fault.Explain(err, collection, "")
	}
	if err := s.replica.CatchUp(ctx, c.Info().Key); err != nil || rules == nil {
		return report, err
	}
	return s.checkAll(ctx, c, rules)
}

// checkAll checks all items of a collection, which are read a page at a time.
func (s *Service) checkAll(ctx context.Context, c *collection, rules *schema.Schema) (report SchemaReport, err error) {
	for after, more := "", true; more; {
		if after, more, err = s.checkPage(ctx, c, rules, after, &report); err != nil {
			return report, err
		}
	}
	return report, nil
}

// checkPage checks the items that come after one, and returns the last of them.
func (s *Service) checkPage(
	ctx context.Context,
	c *collection,
	rules *schema.Schema,
	after string,
	report *SchemaReport,
) (last string, more bool, err error) {
	release, err := s.desk.Admit(ctx, admission.Need{Work: true, Connection: true, Patience: exportPatience})
	if err != nil {
		return after, false, err
	}
	defer release()
	page, cut, err := s.store.FeaturesAfter(ctx, c.Info().Key, after, exportPage, exportBytes)
	if err != nil || len(page) == 0 {
		return after, false, err
	}
	for i := range page {
		report.Checked++
		err := rules.Check(&page[i].Feature)
		var failed *schema.Error
		switch {
		case errors.As(err, &failed):
			report.Failing++
			if len(report.First) < MaxFailing {
				report.First = append(report.First, FailingItem{page[i].ID, failed.Problems})
			}
		case err != nil:
			return after, false, err
		}
	}
	return page[len(page)-1].ID, cut || len(page) == exportPage, nil
}
