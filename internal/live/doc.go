// Package live tells listeners what may have changed of what they look at. A listener has views:
// answers of the service that it wants to be kept up to date. What has changed of them is found
// out when it is sent, so nothing waits in a queue for a listener that is slow, and memory goes
// with the number of listeners and their views.
package live
