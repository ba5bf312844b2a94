# The chip's heap: what is left over is taken away, and what the program holds is measured.
import gc

base = 0
peak = 0
_turn = 0
_ballast = None


def limit(size):
    global base, _ballast
    gc.collect()
    spare = gc.mem_free() - size
    if spare > 64:
        _ballast = bytearray(spare - 64)
    gc.collect()
    base = gc.mem_alloc()


def sample():
    # Every waiting at first, while modules load, then every so often.
    global peak, _turn
    _turn += 1
    if _turn < 40 or _turn % 256 == 0:
        gc.collect()
        peak = max(peak, gc.mem_alloc() - base)
