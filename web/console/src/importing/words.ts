// How the console calls what the service says of files.

export const formatNames: Readonly<Record<string, string>> = {
  csv: 'CSV',
  geojson: 'GeoJSON',
  'geojson-lines': 'GeoJSON, a feature on each line',
  'geojson-seq': 'a GeoJSON text sequence',
  kml: 'KML',
  kmz: 'KMZ',
  gpx: 'GPX',
}

/** The parameters of the service that say which column has a role. */
export const roleParameters = {
  longitude: 'lon_column',
  latitude: 'lat_column',
  geometry: 'geometry_column',
  id: 'id_column',
} as const

export const roles: Readonly<Record<string, string>> = {
  '': 'property',
  longitude: 'longitude',
  latitude: 'latitude',
  geometry: 'geometry',
  id: 'id',
}

export const types: Readonly<Record<string, string>> = {
  text: 'text',
  number: 'number',
  decimal_comma: 'number, 1.390,5',
  decimal_point: 'number, 1,390.5',
  boolean: 'boolean',
  date: 'date',
  timestamp: 'timestamp',
}

export const fixes: Readonly<Record<string, string>> = {
  swap_doubtful: 'Swap latitude and longitude in rows that fit only so',
  skip_zero: 'Leave out rows at 0, 0',
  decimal_comma: 'Read decimal commas in coordinates',
  sexagesimal: 'Read degrees, minutes and seconds',
  web_mercator: 'Read metres as Web Mercator (EPSG:3857)',
}
