// Package mqtt takes positions over MQTT 3.1.1 and 5.
//
// A device publishes its reports to the topic positions/ and its id, whoever has several also to positions, with the
// device in the report. The password is an access key; the name of the user does not matter. With QoS 1 the
// acknowledgement means that the position is durable, or refused for good; with QoS 0 positions may be lost when more
// come than can be written, the oldest first. What became of each is published to verdicts/ and the id of the device.
//
// What has no meaning here is refused: QoS 2, retained messages (the service has the last position), last wills, and
// all other topics.
package mqtt
