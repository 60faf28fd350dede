// Package formats reads features from files. Each format is behind the one
// interface [Reader], which gives a file's rows one by one, so that a file of any
// size is read in little memory and a bad row does not stop the good ones.
//
// [Open] recognises the format and begins to read. [ReadWhole] reads a file to its end, a second
// time if the first rows told something else than all of them: what a column holds, how the
// text is encoded, and which positions are likely wrong is known only at the end. A [Survey]
// takes in what all rows show.
//
// Package export writes features in these formats. [WriteRejected] writes the rows of a file that could not
// be used, as a file of the same format.
//
// The files of this package: csv.go, geojson.go, lines.go, kml.go, kmz.go and gpx.go read one
// format each; columns.go, types.go and values.go find out what columns hold; coordinates.go and
// doubts.go mend positions and judge them (package doubts); notes.go puts into words what to know of a file;
// rejected.go writes rejected rows.
package formats
