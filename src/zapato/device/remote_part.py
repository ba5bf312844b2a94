# What other devices of the site say, heard over the same broker. While one is silent, nothing of it is known.
from micropython import const
import json

from values import number, truth

_FAR_FORGET = const(60000)  # ms without the broker after which nothing of others is known any more
_FAR_PAUSE = const(200)  # ms until what found no room to be asked for is asked for again

FARS = []


class RemotePart:
    # A part of another device. What it said last stands in `row`, and counts while that device is online.
    up = False
    new = None  # nothing of it is published here
    sure = False  # heard to be online since the broker was reached

    def __init__(self, d, name, base, part, props, events):
        self.d = d
        self.name = name
        self.state = base + "/state"
        self.base = base + "/" + part + "/"
        self.props = props  # (name, type)
        self.events = events
        self.row = {}
        for name, _ in props:
            setattr(self, name, None)
        FARS.append(self)

    def online(self, up):
        self.up = self.sure = up
        if not up:
            self.row.clear()
        self.show()

    def take(self, name, payload):
        for known, kind in self.props:
            if known == name:
                self.row[name] = value_said(json.loads(payload), kind)
                self.show()
                return
        self.tell("!" + name)

    def show(self):
        for name, _ in self.props:
            value = self.row.get(name) if self.up else None
            was = getattr(self, name)
            if value != was:
                setattr(self, name, value)
                self.tell("." + name)
                if value is True and was is False and name in self.events:
                    self.tell("!" + name)

    def tell(self, key):
        # The loop hands it on: from here calls would nest deeper than the smallest chip's stack allows.
        self.d.changed(self, key[1:], key[0] == "!")


class Peers:
    # The way to them: what is asked of the broker, and what comes.
    def __init__(self, mqtt):
        self.d = mqtt.d
        self.mqtt = mqtt
        self.ways = []
        for far in FARS:
            names = [name for name, _ in far.props]
            names += [each for each in far.events if each not in names]
            for topic in [far.state] + [far.base + each for each in names]:
                topic = topic.encode()
                if topic not in self.ways:
                    self.ways.append(topic)
        self.at = 0  # how many of them were asked for
        self.asked = []  # the numbers of those that nobody has answered
        self.timer = None
        self.inner = mqtt.online, mqtt.message, mqtt.packet, mqtt.close
        mqtt.online = self.online
        mqtt.message = self.message
        mqtt.packet = self.packet
        mqtt.close = self.close

    def online(self):
        self.inner[0]()
        self.at = 0
        self.asked = []
        self.ask()

    def ask(self):
        # A packet for each, as there is room.
        mqtt = self.mqtt
        while mqtt.state == 3 and self.at < len(self.ways):
            topic = self.ways[self.at]
            if not mqtt.room(len(topic) + 8):
                self.d.after(_FAR_PAUSE, self.ask)
                break
            count = mqtt.next()
            mqtt.head(0x82, len(topic) + 5)
            mqtt.two(count)
            mqtt.text(topic)
            mqtt.put(bytes((mqtt.qos,)))
            self.asked.append(count)
            self.at += 1
        mqtt.due = True

    def packet(self, kind, body):
        count = body[0] << 8 | body[1] if kind & 0xF0 == 0x90 else 0
        if count not in self.asked:
            return self.inner[2](kind, body)
        self.asked.remove(count)
        if body[2] & 0x80:
            self.d.fault("the broker", "it lets this device hear nothing of others")

    def message(self, kind, body):
        at = 2 + (body[0] << 8 | body[1])
        topic = bytes(body[2:at])
        if topic not in self.ways:
            return self.inner[1](kind, body)
        if kind & 6:
            self.mqtt.ack(body[at], body[at + 1])
            at += 2
        self.d.guard(self.heard, topic.decode(), bytes(body[at:]), kind & 1)

    def heard(self, topic, payload, kept):
        for far in FARS:
            if topic == far.state:
                far.online(payload == b"online")
            elif topic.startswith(far.base):
                name = topic[len(far.base) :]
                if kept and name in far.events and not hasattr(far, name):
                    return  # an event from before
                try:
                    far.take(name, payload)
                except ValueError as error:
                    self.d.fault(far.name, "not understood: %s" % error)

    def close(self):
        self.inner[3]()
        if any(far.sure for far in FARS):
            self.d.cancel(self.timer)
            self.timer = self.d.after(_FAR_FORGET, self.hush)
            for far in FARS:
                far.sure = False

    def hush(self):
        self.timer = None
        for far in FARS:
            if not far.sure:
                far.online(False)


def value_said(value, kind):
    # The value in a payload: plain, or a SenML pack (RFC 8428) of one record.
    if isinstance(value, list):
        row = value[0] if value else {}
        value = row.get("v", row.get("vb", row.get("vs"))) if isinstance(row, dict) else None
    if value is None:
        return None
    if kind is bool:
        return truth(value)
    if kind is float:
        return number(value)
    if not isinstance(value, str):
        raise ValueError("takes a text")
    return value
