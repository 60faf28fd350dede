package api

// Picture is a picture that was brought for the items of a collection. An item shows it if one of its
// properties is its Href, or a list of such.
type Picture struct {
	ID     string `json:"id"`
	Href   string `json:"href"`  // a path; with the parameter size, small, medium or large
	Width  int    `json:"width"` // of the largest, in pixels
	Height int    `json:"height"`
	Taken  *Point `json:"taken,omitempty"` // where it was taken, as its file says
}
