package httpapi

import (
	"context"
	"io"

	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/core/formats"
	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/picture"
	"idlebeacon/internal/core/places"
	"idlebeacon/internal/core/policy"
	"idlebeacon/internal/core/style"
	"idlebeacon/internal/importing"
	"idlebeacon/internal/live"
	"idlebeacon/internal/service"
	"idlebeacon/internal/store"
)

// Service is what the handlers call: a *service.Service, or what stands for one in a test
// without a database. What each method does is written there.
type Service interface {
	Ready() error
	Identity() string
	Stats() service.Stats
	Work(ctx context.Context) (release func(), err error)
	Reserve(ctx context.Context, bytes int64) (release func(), err error)

	Live() *live.Hub
	Complete() uint64
	NameOf(key int64) (id string, there bool)

	Opening(collection string) (policy.Opening, error)
	OpenTo(origin string) bool
	Collections(ctx context.Context) ([]service.Summary, error)
	Collection(ctx context.Context, id string) (service.Summary, error)
	CreateCollection(ctx context.Context, n store.Collection) (service.Summary, error)
	UpdateCollection(ctx context.Context, id string, u service.CollectionUpdate) (service.Summary, error)
	DeleteCollection(ctx context.Context, id string) error
	DeletedCollections(ctx context.Context) ([]service.Deleted, error)
	RestoreCollection(ctx context.Context, change uint64, id string) (service.Summary, error)
	PurgeCollection(ctx context.Context, change uint64) error

	Items(ctx context.Context, collection string, q service.ItemsQuery) (service.ItemsPage, error)
	Item(ctx context.Context, collection, id string) (store.Stored, error)
	EditItem(ctx context.Context, collection string, ask service.Ask, retry *store.Retry) (service.Edited, error)
	EditItems(ctx context.Context, collection string, asks []service.Ask, retry *store.Retry) (
		[]service.Edited, error)
	ItemAt(ctx context.Context, collection, id string, change uint64) (store.Stored, error)
	ItemsAt(ctx context.Context, collection string, change uint64, box *geo.Box, after string, limit int) (
		items []feature.Feature, next string, err error)
	History(ctx context.Context, q service.HistoryQuery) (service.HistoryPage, error)
	Since(ctx context.Context, collection string, q service.SinceQuery) (service.SincePage, error)
	CollectionOf(ctx context.Context, change uint64) (string, error)
	Undo(ctx context.Context, collection string, q service.UndoQuery) (service.Undone, error)
	AddPicture(ctx context.Context, collection string, file []byte) (service.Picture, error)
	PictureFile(ctx context.Context, collection, id string, size picture.Size) ([]byte, error)
	DeletePicture(ctx context.Context, collection, id string) error
	Suggest(ctx context.Context, collection string, p service.Proposal) (
		made service.Suggestion, follow string, err error)
	Suggestions(ctx context.Context, collection string, q service.SuggestionQuery) (
		page []service.Suggestion, next int64, err error)
	Suggestion(ctx context.Context, collection, id, follow string) (service.Suggestion, error)
	ChangeSuggestion(ctx context.Context, collection, id, follow string, p service.Proposal) (
		service.Suggestion, error)
	WithdrawSuggestion(ctx context.Context, collection, id, follow string) error
	DeclineSuggestion(ctx context.Context, collection, id, word string) (service.Suggestion, error)
	AcceptSuggestion(ctx context.Context, collection, id string, c service.Condition, instead *service.Ask,
		word string) (service.Edited, error)
	Export(ctx context.Context, collection string, q service.ExportQuery) (*service.Export, error)

	Viewport(ctx context.Context, l service.Layer, q service.MarkersQuery) (*service.Viewport, error)
	JointMembers(ctx context.Context, l []service.Layer, q service.JointMembersQuery) (
		listed []service.LayerPlace, count int, more bool, err error)
	JointShapes(ctx context.Context, l []service.Layer, box geo.Box, zoom float64) ([]service.LayerShapes, error)
	Viewports(ctx context.Context, l []service.Layer, q service.MarkersQuery) ([]*service.Viewport, error)
	Members(ctx context.Context, collection string, q service.MembersQuery) (service.ItemsPage, error)
	Density(ctx context.Context, collection string, q service.DensityQuery) (*service.Density, error)
	Shapes(ctx context.Context, collection string, q service.ShapesQuery) (*service.ShapesView, error)
	CategoryCounts(ctx context.Context, collection string, s places.Selection) ([]places.CategoryCount, error)
	Near(ctx context.Context, collection string, from geo.Point, radius float64, limit int, s places.Selection) (
		[]places.Neighbour, error)
	Popup(ctx context.Context, collection, id, draft string) (service.Popup, error)

	Style(ctx context.Context, collection string) (service.Style, error)
	SetStyle(ctx context.Context, collection string, raw []byte, since []uint64) (service.Style, error)
	Schema(ctx context.Context, collection string) (service.Schema, error)
	SetSchema(ctx context.Context, collection string, raw []byte, since []uint64) (service.SchemaReport, error)
	CheckSchema(ctx context.Context, collection string, raw []byte) (service.SchemaReport, error)
	Legend(ctx context.Context, collection, draft string) (style.Legend, error)
	Icons(ctx context.Context) ([]service.Icon, error)
	Icon(ctx context.Context, name string) (service.Icon, error)
	SetIcon(ctx context.Context, name string, file []byte) (i service.Icon, created bool, err error)
	DeleteIcon(ctx context.Context, name string) error
	WriteSheet(ctx context.Context, w io.Writer) error

	Inspect(ctx context.Context, collection string, r io.Reader, o formats.Options, partial bool, category *string) (
		importing.Inspection, error)
	Import(ctx context.Context, collection string, r io.Reader, o importing.Options) (importing.Report, error)
	StartImport(ctx context.Context, collection string, r io.Reader, o importing.Options) (importing.Import, error)
	Imports(ctx context.Context, collection, before string, limit int) (all []importing.Import, more bool, err error)
	ImportByID(ctx context.Context, id string) (importing.Import, error)
	DismissImport(ctx context.Context, id string) error
	WriteRejected(ctx context.Context, id string, w io.Writer, begin func(importing.Import)) error
}

var _ Service = (*service.Service)(nil)
