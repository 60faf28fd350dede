// Package hooks tells addresses of others what was noticed and what has changed. What is to be told is a delivery, a
// row that is made together with the notice, or from the journal of changes. The process that has the duty of watching
// sends them, so a message may come twice if that dies, with the same id each time.
//
// Messages are signed as the open specification Standard Webhooks says. What is not answered with success is
// sent again, later each time; what is not after a day is given up, and can be sent again by hand.
package hooks
