# The program, then the plan. Leaves nothing of itself in memory.
import gc

import levels


def load(dog, feed, sweep):
    for each in levels.SILENT:  # what the radio of this port begins with by itself
        import network

        network.WLAN(each).active(False)
    feed()
    __import__("device")
    feed()
    sweep(9)
    gc.collect()
    import plan

    device = plan.d
    device.dog = dog  # type: ignore
    device.rest = levels.REST
    for name in plan.MORE:
        gc.collect()
        feed()
        __import__(name)
    print(device.name, device.version)
    return plan
