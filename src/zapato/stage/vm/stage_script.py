# The rehearsal's steps: gestures on the world, and expectations that are watched.
import stage_broker
import stage_clock
import stage_net
import stage_world
from stage_log import log

bench = {"reads": {}, "sets": {}, "acts": {}}
topic = ""
device = None  # gives the running program's parts, or None while it is off
watching = []
_expect = {}  # number -> function, made by the host from the checked expression
_act = {}


def read(part, name):
    how = bench["reads"].get(part + "." + name)
    if how:
        return stage_world.truth(how)
    found = device()
    return getattr(found.parts[part], name) if found else None


def put(key, value, over):
    stage_world.put(bench["sets"][key], value, over)


def gesture(key):
    stage_world.gesture(bench["acts"][key])


def published(name, payload=None):
    full = topic + "/" + name
    return any(t == full and (payload is None or p == payload) for t, p in stage_broker.hub.seen)


def power_cut(over):
    raise stage_clock.PowerCut(over)


def load(steps):
    # Steps with `at` are set on the clock; the others follow the one before.
    chain = None
    for step in steps:
        step["next"] = None
        if step["at"] is None and chain is not None:
            chain["next"] = step
        else:
            stage_clock.at(step["at"] or 0, lambda step=step: begin(step))
        chain = step
    stage_clock.after_each = watch


def begin(step):
    if step["wait"]:
        wait, step["wait"] = step["wait"], 0
        stage_clock.after(wait, lambda: begin(step))
        return
    if step["act"]:
        stage_broker.hub.seen.clear()
        log("act", step["text"], step["number"])
        nxt = step["next"]
        if nxt:
            stage_clock.after(step["over"], lambda: begin(nxt))
        _act[step["number"]]()
        return
    step["from"] = stage_clock.now
    step["until"] = stage_clock.now + (step["within"] or step["stays"] or 0)
    watching.append(step)
    stage_clock.at(step["until"], lambda: close(step))
    watch()


def holds(step):
    try:
        return bool(_expect[step["number"]]())
    except (TypeError, AttributeError, KeyError):
        return False


def watch():
    for step in list(watching):
        if step["within"] and holds(step):
            done(step, True)
        elif step["stays"] and not holds(step):
            done(step, False)


def close(step):
    # The last moment of an expectation.
    if step in watching:
        done(step, holds(step))


def done(step, passed):
    watching.remove(step)
    seen = {}
    for part, name in step["reads"]:
        try:
            seen[part + "." + name] = read(part, name)
        except (TypeError, AttributeError, KeyError):
            seen[part + "." + name] = None
    log("expect", step["text"], passed, number=step["number"], seen=seen, after=stage_clock.now - step["from"])
    if step["next"]:
        begin(step["next"])
