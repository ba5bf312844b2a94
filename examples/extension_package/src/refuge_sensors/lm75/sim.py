"""LM75A: two bytes, the upper eleven bits a number of 0.125 °C in two's complement (datasheet, 7.4.3)."""


class Chip:
    """Its pointer register chooses what is read; the configuration is 0."""

    def __init__(self, stimulus):
        self.stimulus, self.pointer = stimulus, 0

    def write(self, data):
        if data:
            self.pointer = data[0] & 3

    def read(self, size):
        if self.pointer:
            return bytes(size)
        count = round((self.stimulus("temperature") or 0.0) / 0.125) & 0x7FF
        return (count << 5).to_bytes(2, "big")[:size]
