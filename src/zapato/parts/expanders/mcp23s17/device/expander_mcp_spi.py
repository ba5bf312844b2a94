# mcp23s17 and mcp23s08: as their brothers on I2C, behind a byte that writes (0x40) or reads (0x41).
from micropython import const

from expander_mcp import McpExpander

_INPUTS = const(0x12)


class SpiMcpExpander(McpExpander):
    def put(self, data):
        self.talk(self.bus.exchange, b"\x40" + data, 0)

    def receive(self):
        return self.talk(self.bus.exchange, bytes((0x41, _INPUTS >> 2 - self.size)), self.size)
