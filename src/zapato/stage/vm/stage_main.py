# Runs the compiled program on the stage, power-up after power-up, until the rehearsal ends.
import builtins
import gc
import io
import json
import random
import sys

import stage_broker
import stage_clock
import stage_heap
import stage_log
import stage_net
import stage_script
import stage_world

# What a program may bring in beside its own modules; loaded now, so that they do not count as its own.
import dht
import errno
import machine
import network
import os
import select
import socket
import struct
import time


def device():
    # The running program's device, or None while it is off or still loading.
    return getattr(sys.modules.get("plan"), "d", None)


def prepare(script):
    random.seed(script["seed"])
    for row in script["pins"]:
        stage_world.table[row["gpio"]] = row
    for gpio, level in script["rest"]:
        stage_world.line(gpio).change(level)
    machine.ADC.full = script["full"]
    machine.ADC.only = next((row["gpio"] for row in script["pins"] if row["adc"]), -1)
    stage_net.known = tuple(script["wifi"]) if script["wifi"] else None
    stage_script.bench = script["bench"]
    stage_script.topic = script["topic"]
    stage_script.device = device
    stage_world.bounce = False
    for key, value in script["world"]:
        stage_script.put(key, value, 0)
    stage_world.bounce = True
    import steps  # made by the host from the checked rehearsal

    steps.fill(stage_script, stage_script._act, stage_script._expect)
    stage_script.load(script["steps"])
    stage_clock.at(script["lasts"], end)


def end():
    raise stage_clock.End


def power_up(settings):
    stage_world.power_on()
    stage_log.flush()
    __import__("start").run(settings)


def forget(own):
    for name in own:
        sys.modules.pop(name, None)
    gc.collect()


def off(ms, own):
    stage_world.power_off()
    stage_net.drop_all()
    forget(own)
    stage_clock.go(stage_clock.now + ms)


def crash(error):
    stage_heap.release()
    told = io.StringIO()
    sys.print_exception(error, told)
    stage_log.log("crash", type(error).__name__, told.getvalue())


def rehearse(script):
    own = script["modules"]
    settings = script["settings"]
    pause = None  # ms that the power stays off before it comes on, or None
    while True:
        try:
            if pause is not None:
                off(pause, own)
            pause = None
            stage_log.log("power", "on", True)
            power_up(settings)
            crash(RuntimeError("the program came to its end"))
            return
        except stage_clock.PowerCut as cut:
            stage_log.log("power", "on", False)
            pause = cut.args[0]
        except machine.Reset:
            stage_log.log("power", "reset", True)
            pause = 0
        except stage_clock.End:
            return
        except Exception as error:
            crash(error)
            return


def main():
    with open("script.json") as file:
        script = json.load(file)
    prepare(script)
    builtins.print = stage_log.say
    stage_heap.limit(script["heap"])
    rehearse(script)
    stage_log.log("end", "heap", stage_heap.peak)
    stage_log.flush()


main()
