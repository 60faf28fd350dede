package demo

// PlacesSchema says what the places of the Moorings Trust have to be: a JSON Schema.
const PlacesSchema = `{
  "$schema": "https://json-schema.org/draft/2020-12/schema",
  "title": "Places of the Brindlemere Moorings Trust",
  "type": "object",
  "required": ["name", "category"],
  "properties": {
    "geometry": { "x-ogc-role": "primary-geometry", "format": "geometry-point" },
    "name": { "type": "string", "title": "Name", "minLength": 2, "maxLength": 80, "x-ogc-propertySeq": 1 },
    "category": {
      "title": "Kind",
      "enum": ["mooring", "slipway", "water tap", "shelter hut", "charge post", "tide gauge", "tool shed"],
      "x-ogc-propertySeq": 2
    },
    "condition": { "type": "string", "title": "Condition", "x-ogc-propertySeq": 3 },
    "berths": { "type": "integer", "title": "Berths", "minimum": 0, "maximum": 200, "x-ogc-propertySeq": 4 },
    "depth_m": { "type": "number", "title": "Depth", "minimum": 0, "maximum": 60, "x-ogc-unit": "m",
      "x-ogc-propertySeq": 5 },
    "swing_m": { "type": "number", "title": "Swinging room", "minimum": 0, "maximum": 200, "x-ogc-unit": "m",
      "x-ogc-propertySeq": 6 },
    "near": { "type": "string", "title": "Near", "x-ogc-propertySeq": 7 },
    "reference": { "type": "string", "title": "Reference", "x-ogc-propertySeq": 8 },
    "picture": { "type": "string", "title": "Picture", "x-ogc-propertySeq": 9 },
    "note": { "type": "string", "title": "Note", "maxLength": 2000, "x-ogc-propertySeq": 10 }
  }
}`
