# The chip's heap: what is left over is taken away, and what the program holds is measured.
import gc

base = 0
peak = 0
_turn = 0
_ballast = []
PIECE = 2048


def limit(size):
    global base
    gc.collect()
    while gc.mem_free() - size > PIECE + 64:
        _ballast.append(bytearray(PIECE))
    base = gc.mem_alloc()


def release():
    # The program is over: give back what was taken away, so that its end can be told.
    _ballast.clear()
    gc.collect()


def sample():
    # Every waiting at first, while modules load, then every so often.
    global peak, _turn
    _turn += 1
    if _turn < 40 or _turn % 256 == 0:
        gc.collect()
        peak = max(peak, gc.mem_alloc() - base)
