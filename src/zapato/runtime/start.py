# The way up: safe levels before anything else, then the plan, then the loop.
from machine import Pin

import levels

for _gpio, _level in levels.OUT:
    Pin(_gpio, Pin.OUT, value=_level)


def run(secrets):
    import plan

    print(plan.d.name, plan.d.version)
    plan.connect(secrets)
    plan.d.run()
