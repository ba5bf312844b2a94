# What a reading goes through before it counts: scale, offset, a line of points, smoothing over the last readings.
from micropython import const

_MEDIAN = const(1)
_MEAN = const(2)


class Treatment:
    def __init__(self, scale, offset, points, smooth, window):
        self.scale = scale
        self.offset = offset
        self.points = points  # pairs, rising
        self.smooth = smooth  # 1 the middle one, 2 the mean, 3 a low-pass of `window` readings
        self.window = window
        self.past = []

    def through(self, value):
        value = value * self.scale + self.offset
        if self.points:
            value = self.on_line(value)
        if self.smooth:
            value = self.smoothed(value)
        return round(value, 4)

    def on_line(self, value):
        # Between two points the straight line; beyond the last ones their level.
        before = self.points[0]
        if value <= before[0]:
            return before[1]
        for point in self.points:
            if value <= point[0]:
                return before[1] + (value - before[0]) * (point[1] - before[1]) / (point[0] - before[0])
            before = point
        return before[1]

    def smoothed(self, value):
        past = self.past
        if self.smooth > _MEAN:
            if past:
                value = past[0] + (value - past[0]) / self.window
            past[:] = [value]
            return value
        if len(past) >= self.window:
            del past[0]
        past.append(value)
        if self.smooth == _MEDIAN:
            return sorted(past)[len(past) // 2]
        return sum(past) / len(past)


class Treated:
    # Stands before a sensor's measuring; what was before a failure counts no more.
    def __init__(self, part, ways):
        self.measured = part.measure
        self.ways = ways
        part.measure = self.measure

    def measure(self):
        try:
            values = self.measured()
        except Exception:
            for way in self.ways:
                if way:
                    way.past.clear()
            raise
        return [way.through(value) if way else value for way, value in zip(self.ways, values)]


class Repeated:
    # Said again, even where nothing changed.
    def __init__(self, d, part, ms):
        self.d = d
        self.part = part
        d.every(ms, self.again)

    def again(self):
        if self.d.out:
            self.part.new |= (1 << len(self.part.props)) - 1
            self.d.out.value(self.part)
