# Where nothing is pending the slot in use begins; else boot_slot.py decides. Leaves nothing of itself in memory.
# A module that is done with is emptied: the collector takes any word on the stack for a pointer, and one keeps all of a module.
import os
import sys

try:
    os.remove("-")  # there is none: LittleFS ends a rename that the power cut in two before it looks
except OSError:
    pass
here = os.listdir()
if "slots.json" in here or "ask.json" in here or "fault.json" in here or "a" not in here:
    import boot_slot

    boot_slot.choose(here)
    boot_slot.__dict__.clear()  # a pointer left on the stack would keep all of it
    del boot_slot
else:
    sys.path.insert(0, "/b" if "b.runs" in here else "/a")
del sys.modules["go"]
