package demo

import (
	"embed"
	"io/fs"
)

//go:embed pictures
var pictures embed.FS

// Pictures holds a drawing for each category of places, by the names that the
// property picture has.
func Pictures() fs.FS {
	sub, err := fs.Sub(pictures, "pictures")
	if err != nil {
		panic(err) // it is embedded
	}
	return sub
}

// PlacesStyle is how the places are drawn.
const PlacesStyle = `{
  "default": {"icon": "info", "colour": "#5f6b76"},
  "categories": [
    {"value": "mooring", "label": "Moorings", "icon": "anchor", "colour": "#0072b2"},
    {"value": "slipway", "label": "Slipways", "icon": "sailboat", "colour": "#c24a00"},
    {"value": "water tap", "label": "Water taps", "icon": "droplets", "colour": "#56b4e9"},
    {"value": "shelter hut", "label": "Shelter huts", "icon": "house", "colour": "#007a5a"},
    {"value": "charge post", "label": "Charge posts", "icon": "plug-zap", "colour": "#e69f00"},
    {"value": "tide gauge", "label": "Tide gauges", "icon": "gauge", "colour": "#6a4c93"},
    {"value": "tool shed", "label": "Tool sheds", "icon": "hammer", "colour": "#cc79a7"}
  ],
  "rules": [{"when": "condition = 'closed'", "label": "Closed for now", "icon": "ban", "colour": "#4a4a4a"}],
  "size": {"property": "berths", "least": 22, "most": 40},
  "circle": {"property": "swing_m"},
  "line": {"width": 1.5, "dash": "dashed"},
  "fill": {"opacity": 0.08},
  "order": 1,
  "tooltip": [
    {"property": "berths", "label": "Berths"},
    {"property": "condition", "label": "Condition"}
  ],
  "popup": {
    "title": "name", "subtitle": "near", "image": "picture",
    "fields": [
      {"property": "berths", "label": "Berths", "format": "number"},
      {"property": "depth_m", "label": "Depth", "format": "number", "unit": "m"},
      {"property": "swing_m", "label": "Swinging room", "format": "number", "unit": "m"},
      {"property": "condition", "label": "Condition"},
      {"property": "reference", "label": "Reference"},
      {"property": "note", "label": "Note"}
    ],
    "actions": [{"label": "Report a fault", "url": "mailto:moorings@brindlemere.example?subject={reference}"}]
  }
}`

// WatersStyle is how the areas and paths are drawn.
const WatersStyle = `{
  "default": {"icon": "waves", "colour": "#4d7c8a"},
  "categories": [
    {"value": "harbour area", "label": "Harbour areas", "icon": "ship", "colour": "#2b6777"},
    {"value": "no-anchor area", "label": "No anchoring", "icon": "ban", "colour": "#a8325e"},
    {"value": "ferry lane", "label": "Ferry lanes", "icon": "route", "colour": "#33508f", "line": {"width": 2.5, ` +
	`"dash": "dotted"}}
  ],
  "tooltip": [
    {"property": "speed_limit_kn", "label": "Speed limit", "unit": "kn"},
    {"property": "sailings_a_day", "label": "Sailings a day"}
  ],
  "line": {"width": 2, "dash": "dashed"},
  "fill": {"opacity": 0.14},
  "popup": {
    "title": "name",
    "fields": [
      {"property": "speed_limit_kn", "label": "Speed limit", "format": "number", "unit": "kn"},
      {"property": "harbour_master", "label": "Harbour master"},
      {"property": "reason", "label": "Reason"},
      {"property": "since", "label": "Since", "format": "date"},
      {"property": "sailings_a_day", "label": "Sailings a day", "format": "number"},
      {"property": "minutes", "label": "Crossing", "format": "number", "unit": "minutes"},
      {"property": "note", "label": "Note"}
    ]
  }
}`
