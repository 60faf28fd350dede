// Package answers keeps answers about the map as they were encoded: whole ones, and the
// squares of the map that answers are put together from.
//
// A [Cache] keeps whole answers with their tags and their compressed forms. As long as
// nothing that an answer depends on has changed, its tag is known without working it out.
// When many ask the same at once, it is worked out once.
//
// A [Squares] keeps the markers of squares of the map, 256 pixels wide. Views that are
// nowhere the same still share most of their squares; only what lies along the edge of a
// view has to be looked at again. It knows nothing of how markers are encoded.
package answers
