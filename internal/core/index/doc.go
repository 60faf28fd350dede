// Package index is the ordered index of points at the heart of the service.
//
// Every point is a 64-bit [Key]: its Web Mercator x and y, 32 bits each,
// interleaved (G. M. Morton, "A Computer Oriented Geodetic Data Base", 1966). Two
// bits of it after another choose one quarter of the map, one quarter of that
// quarter, and so on, so an ordered tree that parts by two bits at a time has a
// node, or a run of one leaf, for every cell of the map that is not empty. Each
// node carries a [Summary] of what is below it. So one structure answers all the
// questions of a map: what is in a box, how many are in a cell and where is their
// mean, what is nearest, and what changed since.
//
// A [Tree] is an immutable snapshot, safe for any number of concurrent readers.
// [Tree.Edit] starts a set of edits that copies what it touches and shares the
// rest; its result becomes the next snapshot.
//
// # Costs
//
// With n entries, a path of the tree has at most 48 nodes, and about log4(n) of them where the
// points are spread. Finding a [Part], and its [Summary], takes one path. [Edit.Insert] and
// [Edit.Remove] take one path each, and copy the nodes of it that the set of edits has not
// copied yet. [Tree.In] and [Tree.Count] take the paths along the edge of the box, and In what
// it yields. [Tree.Near] takes what it yields, and a heap of the nodes beside it. [Build] sorts.
//
// # Invariants
//
// A node without a fork is a leaf, with its entries in the order of Key and then Ref. A node
// with a fork has at least two children that are not empty. Its summary is the sum of theirs.
// What two trees share is never written to.
package index
