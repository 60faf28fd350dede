package api

// SchemaReport says which items of a collection are not as a schema wants them.
type SchemaReport struct {
	Checked int           `json:"checked"` // how many items there are
	Failing int           `json:"failing"` // how many of them are not as the schema wants them
	Items   []FailingItem `json:"items"`   // the first 100 of these, in the order of their ids
}

// FailingItem is an item that is not as a schema wants it.
type FailingItem struct {
	ID       string   `json:"id"`
	Problems []Misfit `json:"problems"` // the first 20
}

// Misfit is one thing of an item that is not as a schema wants it.
type Misfit struct {
	Member string `json:"member"`         // a JSON Pointer (RFC 6901) into the GeoJSON feature, such as /properties/depth
	Reason string `json:"reason"`         // such as "is 140"
	Want   string `json:"want,omitempty"` // such as "at most 100"
}
