# Stands in for the port's bluetooth module, as far as listening goes.
import sys

from world import ask, fetch, handlers, pipe

_FIRED = 1 << 16  # among the pins whose interrupt fired
_SCAN_RESULT = 5
_SCAN_DONE = 6


class BLE:
    def __init__(self):
        self.on = False
        self.handler = None
        self.scanning = False

    def active(self, on=None):
        if on is None:
            return self.on
        ask("ble", "1" if on else "0")
        self.on = bool(on)
        self.scanning = False

    def irq(self, handler):
        self.handler = handler
        handlers[_FIRED] = (_tell, self)

    def gap_scan(self, duration_ms, interval_us=1280000, window_us=11250, active=False):
        if not self.on:
            raise OSError(19)
        # extmod/nimble/modbluetooth_nimble.c: ble_gap_disc refuses while it scans (MP_EALREADY); btstack would begin anew
        if duration_ms is not None and self.scanning:
            raise OSError(114)
        self.scanning = duration_ms is not None
        ask("ble_scan", "%d %d %d %d" % (-1 if duration_ms is None else duration_ms, interval_us, window_us, active))
        if duration_ms is None and self.handler:  # extmod/btstack/modbluetooth_btstack.c tells it also where none was under way
            self.handler(_SCAN_DONE, ())


def _tell(ble):
    size = int(fetch("ble_heard"))
    rows = memoryview(pipe.read(size)) if size else b""
    at = 0
    while at < size:
        row = rows[at + 1 : at + 1 + rows[at]]
        at += 1 + rows[at]
        if ble.handler:
            try:
                ble.handler(_SCAN_RESULT, (0, row[1:7], row[0], row[7] - 256, row[8:]))
            except Exception as error:  # extmod/modbluetooth.c, invoke_irq_handler_run: printed, and the handler is taken away
                sys.print_exception(error)
                ble.handler = None
