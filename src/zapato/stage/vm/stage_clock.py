# Virtual time: a queue of what is to happen, and a now that jumps from one to the next.
import heapq

now = 0  # ms since the rehearsal began
micro = 0  # us beyond now
_queue = []
_count = 0


class End(BaseException):
    pass


class PowerCut(BaseException):
    pass


def after_each():
    # Called when the program waits and after every event; the script puts its own watching here.
    pass


def at(when, call):
    global _count
    _count += 1
    heapq.heappush(_queue, (when, _count, call))


def after(ms, call):
    at(now + ms, call)


def go(limit, ready=None):
    # Let the world go on until `limit`, or until an event makes ready() true; True where one did.
    global now
    after_each()
    while _queue and _queue[0][0] <= limit:
        when, _, call = heapq.heappop(_queue)
        if when > now:
            now = when
        call()
        after_each()
        if ready and ready():
            return True
    if limit > now:
        now = limit
    return False


def busy(us):
    # The program works for this long and nothing interrupts it.
    global micro
    micro += us
    if micro >= 1000:
        ms = micro // 1000
        micro %= 1000
        go(now + ms)
