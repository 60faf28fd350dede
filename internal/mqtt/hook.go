package mqtt

import (
	"strings"

	broker "github.com/mochi-mqtt/server/v2"
	"github.com/mochi-mqtt/server/v2/packets"
)

// A hook is what the broker asks.
type hook struct {
	broker.HookBase
	door *Door
}

// ID returns the name of the hook.
func (*hook) ID() string { return "positions" }

// Provides tells what the broker is to ask.
func (*hook) Provides(what byte) bool {
	switch what {
	case broker.OnConnectAuthenticate, broker.OnACLCheck, broker.OnPacketRead, broker.OnPublish, broker.OnDisconnect:
		return true
	}
	return false
}

// OnConnectAuthenticate lets senders in.
func (h *hook) OnConnectAuthenticate(client *broker.Client, pk packets.Packet) bool {
	return h.door.enter(client, pk)
}

// OnDisconnect ends what goes on for a sender.
func (h *hook) OnDisconnect(client *broker.Client, _ error, _ bool) { h.door.leave(client) }

// OnPacketRead refuses what has no meaning here.
func (h *hook) OnPacketRead(client *broker.Client, pk packets.Packet) (packets.Packet, error) {
	if pk.FixedHeader.Type != packets.Publish {
		return pk, nil
	}
	var why packets.Code
	switch {
	case pk.FixedHeader.Qos > 1:
		why = packets.ErrQosNotSupported
	case pk.FixedHeader.Retain:
		why = packets.ErrRetainNotSupported
	default:
		return pk, nil
	}
	_ = h.door.broker.DisconnectClient(client, why) // it may have gone
	return pk, why
}

// OnACLCheck tells whether a sender may publish to a topic, or subscribe to some.
func (h *hook) OnACLCheck(client *broker.Client, topic string, publishes bool) bool {
	s := h.door.sender(client)
	if s == nil {
		return false
	}
	if publishes {
		return topic == topicMany || strings.HasPrefix(topic, topicOne) && !strings.Contains(topic[len(topicOne):], "/")
	}
	device, ok := strings.CutPrefix(topic, topicVerdicts)
	if !ok {
		return false
	}
	if device == "#" || device == "+" { // of all for which it may report
		return s.actor.Limits.Devices == nil && s.actor.Limits.Groups == nil
	}
	return h.door.options.Fleet.MayReport(s.actor, device)
}

// OnPublish takes reports. They are acknowledged once they are durable, and go to nobody else.
func (h *hook) OnPublish(client *broker.Client, pk packets.Packet) (packets.Packet, error) {
	if client.Net.Inline { // a verdict
		return pk, nil
	}
	h.door.take(client, pk)
	return pk, packets.ErrRejectPacket
}
