# The way out of the VM: the simulated board answers what the program asks of it.
import array
import sys
import uctypes

import host

# Words that the host writes: ms, us, how many interrupts wait, whole seconds since the rehearsal began,
# and whether waiting would end at once; and two that the program writes: it fed the watchdog, and how long
# it wants to wait, and one more (0 stands for without end).
now = array.array("I", (0, 0, 0, 0, 0, 0, 0))
host.call("here", str(uctypes.addressof(now)))
handlers = {}  # number -> (handler, pin)
pipe = open("/stage/pipe", "rb")
_running = False  # a handler runs: the others wait (py/scheduler.c, mp_sched_lock)


def ask(name, data=""):
    answer = host.call(name, data)
    if now[2] and not _running:
        fire()
    if answer[:1] == "!":
        raise OSError(int(answer[1:]))
    return answer


def fire():
    global _running
    _running = True
    try:
        while True:
            number = host.call("interrupt", "")
            if not number:
                return
            found = handlers.get(int(number))
            if found:
                try:
                    found[0](found[1])
                except Exception as error:  # printed, and the program goes on (mp_call_function_1_protected)
                    sys.print_exception(error)
    finally:
        _running = False
