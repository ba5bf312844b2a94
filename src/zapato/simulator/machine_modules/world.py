# The way out of the VM: the simulated board answers what the program asks of it.
import array
import sys
import uctypes

import host

# What host.number() is asked for; simulator/board.py has the same order in NUMBERED.
SET, GET, BUSY, SLEEP, INTERRUPT, WAIT, ADC, FULL, PWM, DAC, TOUCH, PULSE, WIRE_RESET, WIRE_WRITE, WIRE_READ = range(15)
UART_DONE, WATCH, JOINED, READY = 15, 16, 17, 18
UNUSUAL = 5  # the word of `now` that says that poll() is to look at more than what is registered
number = host.number

# Words that the host writes: ms, us, how many interrupts wait, whole seconds since the rehearsal began; and two that are written
# here: the program fed the watchdog, and something unusual waits.
now = array.array("I", (0, 0, 0, 0, 0, 1))
host.call("here", str(uctypes.addressof(now)))
host.share(now)
handlers = {}  # number -> (handler, pin)
pipe = open("/sim/pipe", "rb")
_running = False  # a handler runs: the others wait (py/scheduler.c, mp_sched_lock)


def ask(name, data=""):
    answer = host.call(name, data)
    if now[2]:
        fire()
    if answer[:1] == "!":
        raise OSError(int(answer[1:]))
    return answer


def fetch(name, data=""):
    # The same where bytes wait in the pipe next: a handler that ran in between would use the pipe itself.
    answer = host.call(name, data)
    if answer[:1] == "!":
        raise OSError(int(answer[1:]))
    return answer


def fire():
    global _running
    if _running:
        return
    _running = True
    try:
        while True:  # the last question ends the last handler's moment
            found = number(INTERRUPT)
            if found < 0:
                return
            found = handlers.get(found)
            if found:
                try:
                    found[0](found[1])
                except Exception as error:  # printed, and the program goes on (mp_call_function_1_protected)
                    sys.print_exception(error)
    finally:
        _running = False
