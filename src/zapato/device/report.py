# Other ways to report values: as SenML packs (RFC 8428), and no more often than so.
import json


class Senml:
    def __init__(self, mqtt, units):
        self.topic = mqtt.d.topic
        self.units = units  # by "part/property"
        mqtt.pack = self.pack

    def pack(self, part, name):
        value = getattr(part, name)
        if value is None:
            return "[]"
        name = part.name + "/" + name
        row = {"n": self.topic + "/" + name}
        unit = self.units.get(name)
        if unit:
            row["u"] = unit
        row["vb" if isinstance(value, bool) else "vs" if isinstance(value, str) else "v"] = value
        return json.dumps([row])


class Apart:
    # A part's values go at once, and then not again for a while; what waits is the newest.
    def __init__(self, mqtt, ms):
        self.mqtt = mqtt
        self.ms = ms
        self.resting = []
        self.inner = mqtt.value
        mqtt.value = self.value

    def value(self, part):
        if part not in self.resting:
            self.resting.append(part)
            self.mqtt.d.after(self.ms, self.rested)  # one after the other, as they began
            self.inner(part)

    def rested(self):
        part = self.resting.pop(0)
        if part.new:
            self.value(part)
