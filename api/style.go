package api

// Style is how a collection is drawn.
type Style struct {
	StyleDocument
	Proposed bool           `json:"proposed"` // nobody has said how: this is made from the categories
	Warnings []StyleWarning `json:"warnings"` // what of it does nothing
}

// StyleWarning says why a member of a style does nothing.
type StyleWarning struct {
	Field  string `json:"field"` // a path such as "size.property"
	Reason string `json:"reason"`
}

// A StyleDocument says how a collection is drawn. The zero value draws everything alike.
type StyleDocument struct {
	Default    Look            `json:"default"` // of what nothing else says anything about
	Categories []StyleCategory `json:"categories,omitempty"`
	Rules      []StyleRule     `json:"rules,omitempty"` // the first that is met goes before the category
	Size       *Size           `json:"size,omitempty"`
	Shade      *Shade          `json:"shade,omitempty"`
	Line       *Line           `json:"line,omitempty"`
	Fill       *Fill           `json:"fill,omitempty"`
	Circle     *Circle         `json:"circle,omitempty"`
	Labels     bool            `json:"labels,omitempty"` // names beside places
	Badge      *Number         `json:"badge,omitempty"`  // on clusters; nil for how many places they are of
	Density    *StyleDensity   `json:"density,omitempty"`
	Apart      bool            `json:"apart,omitempty"` // its places do not gather with those of other collections
	Zooms      *Zooms          `json:"zooms,omitempty"` // where the collection is shown; nil for everywhere
	// Collections of a higher one are drawn over others, -100 to 100
	Order   int            `json:"order,omitempty"`
	Tooltip []StyleField   `json:"tooltip,omitempty"` // told of what is pointed at, below its name
	Popup   *PopupTemplate `json:"popup,omitempty"`
}

// A Look is an icon and a colour, and how lines and areas differ from the others of the
// style. What is empty is that of the default.
type Look struct {
	Icon   string `json:"icon,omitempty"`   // the name of a built-in icon or of one that a user brought
	Colour string `json:"colour,omitempty"` // #rrggbb
	Line   *Line  `json:"line,omitempty"`
	Fill   *Fill  `json:"fill,omitempty"`
}

// A StyleCategory is the look of the features of one category.
type StyleCategory struct {
	Value string `json:"value"` // "" for features without one
	Label string `json:"label,omitempty"`
	Look
}

// A StyleRule is the look of features that meet a condition.
type StyleRule struct {
	When  string `json:"when"` // a condition in CQL2 Text
	Label string `json:"label,omitempty"`
	Look
}

// A Size makes places larger by a number, so that their areas are in proportion.
type Size struct {
	Property string   `json:"property"`
	From     *float64 `json:"from,omitempty"`  // the number of the least size; found from the data if absent
	To       *float64 `json:"to,omitempty"`    // and of the largest
	Least    float64  `json:"least,omitempty"` // CSS pixels; 0 for the usual
	Most     float64  `json:"most,omitempty"`
}

// A Shade colours features by a number.
type Shade struct {
	Property string    `json:"property"`
	Method   string    `json:"method"`            // equal, quantile, manual or continuous
	Classes  int       `json:"classes,omitempty"` // of equal and quantile, 2 to 9; 0 for 5
	Breaks   []float64 `json:"breaks,omitempty"`  // of manual: between the classes, ascending
	// The first and the last, or one for each class; those of a ramp if absent
	Colours []string `json:"colours,omitempty"`
}

// A Number says what is told of some places, such as on the badge of a cluster.
type Number struct {
	Show     string `json:"show,omitempty"`     // count, sum, mean, least or greatest; count if empty
	Property string `json:"property,omitempty"` // of all but count
}

// A StyleDensity draws the places of a collection as shaded cells, instead of markers.
type StyleDensity struct {
	Number
	Method  string   `json:"method,omitempty"`  // classes or continuous; continuous if empty
	Classes int      `json:"classes,omitempty"` // 2 to 9; 0 for 5
	Colours []string `json:"colours,omitempty"` // the first and the last, or one for each class
	To      *float64 `json:"to,omitempty"`      // the last zoom with cells; beyond it are markers. Nil for all
}

// A Line is how paths, and the borders of areas and circles, are drawn.
type Line struct {
	Colour  string   `json:"colour,omitempty"`  // that of the look if empty
	Width   *float64 `json:"width,omitempty"`   // CSS pixels, 0 to 20
	Dash    string   `json:"dash,omitempty"`    // solid, dashed or dotted; solid if empty
	Opacity *float64 `json:"opacity,omitempty"` // 0 to 1
}

// A Fill is how areas and circles are filled.
type Fill struct {
	Colour  string   `json:"colour,omitempty"`  // that of the look if empty
	Opacity *float64 `json:"opacity,omitempty"` // 0 to 1
}

// A Circle is drawn around each place, true to scale. Either its radius is the same for
// all, or it is a property of each.
type Circle struct {
	Metres   *float64 `json:"metres,omitempty"`   // more than 0, at most 1,000,000
	Property string   `json:"property,omitempty"` // whose number is in metres
}

// Zooms is a range of zooms, both ends included.
type Zooms struct {
	From float64 `json:"from"`
	To   float64 `json:"to"`
}

// A PopupTemplate says what a popup shows. What is empty is found from the data.
type PopupTemplate struct {
	Title    string           `json:"title,omitempty"`    // the property with the title
	Subtitle string           `json:"subtitle,omitempty"` // and with the line below it
	Image    string           `json:"image,omitempty"`    // and with the path or URL of a picture
	Fields   []StyleField     `json:"fields,omitempty"`   // those shown, in order; all if empty
	Actions  []ActionTemplate `json:"actions,omitempty"`  // what can be done from there
}

// An ActionTemplate leads somewhere from a popup.
type ActionTemplate struct {
	Label string `json:"label"`
	// URL is a URI Template of level 1 (RFC 6570): {name} stands for the property name, or
	// for the id of the feature if it has no property id. A feature that lacks a property
	// has no such action. It begins with https:, http:, mailto:, tel: or a slash.
	URL string `json:"url"`
}

// A StyleField is one property that a popup or tooltip shows.
type StyleField struct {
	Property string `json:"property"`
	Label    string `json:"label,omitempty"`
	// Text, number, date, link, phone, lines or html; found from the value if empty
	Format string `json:"format,omitempty"`
	Unit   string `json:"unit,omitempty"` // written behind a number
	// Template, in a popup, puts several properties into one line, such as "{street},
	// {postcode} {town}"; what a feature lacks is left out. It goes instead of a Property.
	Template string `json:"template,omitempty"`
}

// A Legend is the key to a style.
type Legend struct {
	Entries []LegendEntry `json:"entries"`
	// Unstyled are the categories in the data that have no look of their own, and
	// Unused those that have one but are not in the data, and the rules that nothing
	// meets.
	Unstyled []string `json:"unstyled"`
	Unused   []string `json:"unused"`
}

// A LegendEntry is one line of a legend.
type LegendEntry struct {
	Kind   string  `json:"kind"` // "category", "rule", "size", "shade", "circle", "badge" or "density"
	Label  string  `json:"label"`
	Icon   string  `json:"icon,omitempty"`
	Colour string  `json:"colour,omitempty"`
	Value  string  `json:"value,omitempty"`  // of a category
	When   string  `json:"when,omitempty"`   // of a rule, size or shade: the condition that what it stands for meets
	Count  int     `json:"count,omitempty"`  // how many features have a category, or meet the condition of a rule
	Number float64 `json:"number,omitempty"` // of a size: an example
	Pixels float64 `json:"pixels,omitempty"` // and how large it is drawn
	Metres float64 `json:"metres,omitempty"` // of a circle that is the same for all: its radius
	// Colours are those of a density, from the lightest cells to the heaviest
	Colours []string `json:"colours,omitempty"`
	Line    *Line    `json:"line,omitempty"` // of a category or rule: how its paths and areas differ
	Fill    *Fill    `json:"fill,omitempty"`
}

// Popup is what the popup of an item shows.
type Popup struct {
	ID       string        `json:"id"`
	Title    string        `json:"title,omitempty"`
	Subtitle string        `json:"subtitle,omitempty"`
	Category string        `json:"category,omitempty"`
	Image    string        `json:"image,omitempty"`  // a path of the service, or an https URL
	Images   []string      `json:"images,omitempty"` // all of them, if there are several
	Fields   []PopupField  `json:"fields"`
	Actions  []PopupAction `json:"actions"`
	Change   uint64        `json:"change"` // the item's newest change
}

// A PopupField is one property as a popup shows it. Which member it has beside Text depends
// on the format.
type PopupField struct {
	Property string   `json:"property"`
	Label    string   `json:"label"`
	Format   string   `json:"format"`           // text, number, date, link, phone, lines or html
	Text     string   `json:"text"`             // the value as text
	Number   *float64 `json:"number,omitempty"` // of number
	Unit     string   `json:"unit,omitempty"`   // of number
	Href     string   `json:"href,omitempty"`   // of link and phone: where it leads
	Lines    []string `json:"lines,omitempty"`  // of lines
	HTML     string   `json:"html,omitempty"`   // of html: what is safe of it
}

// A PopupAction leads somewhere.
type PopupAction struct {
	Label string `json:"label"`
	Href  string `json:"href"`
}
