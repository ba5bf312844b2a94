# What the device itself can be told; loaded when somebody does, and given back.
from binascii import hexlify, unhexlify
import hashlib
import json
import os
import sys
import time

import machine
from micropython import const

_SOON = const(500)  # ms until a restart, so that what was said leaves
_TWICE = const(30000)  # ms within which "forget" must be said again


def seal(key, pieces):
    # HMAC-SHA256 (RFC 2104) in hexadecimal digits.
    key = key + bytes(64 - len(key))
    inner = hashlib.sha256(bytes(each ^ 0x36 for each in key))
    for each in pieces:
        inner.update(each)
    outer = hashlib.sha256(bytes(each ^ 0x5C for each in key))
    outer.update(inner.digest())
    return hexlify(outer.digest()).decode()


def same(one, other):
    # Takes as long wherever they differ.
    differs = len(one) ^ len(other)
    for a, b in zip(one, other):
        differs |= ord(a) ^ ord(b)
    return not differs


def rank(version):
    return [int(each) for each in (version + ".0.0").split(".")[:3]]


def put(name, data):
    with open(name + ".new", "w") as file:
        json.dump(data, file)
    os.rename(name + ".new", name)


def do(d, action, given=None):
    sys.modules.pop("own", None)
    if action == "restart":
        d.after(_SOON, machine.reset)
    elif action == "tell":
        d.net.vitals()
    elif action == "update":
        update(d, given)
    elif action == "forget":
        forget(d)
    else:
        raise ValueError("no such action")


def update(d, given):
    # [version, seal]: a newer version, or this one again, offered by who holds the key.
    version, offered = given
    if version == getattr(d, "updates", None):  # it comes already
        return
    with open("settings.json") as file:
        key = unhexlify(json.load(file)["update_key"])
    if not same(seal(key, (("update %s %s %s" % (d.topic, d.version, version)).encode(),)), offered):
        raise ValueError("the offer is not from who holds this device's key")
    if rank(version) < rank(d.version):
        raise ValueError("%s is older than %s" % (version, d.version))
    put("ask.json", {"update": version})
    d.note("update to %s begins" % version)
    d.after(_SOON, machine.reset)


def forget(d, sure=False):
    now = time.ticks_ms()
    before = getattr(d, "forgets", None)
    d.forgets = now
    if not sure and (before is None or time.ticks_diff(now, before) > _TWICE):
        d.note("say it again within 30 s: values that were kept are forgotten")
        return
    for name in ("kept.json", "fault.json"):
        try:
            os.remove(name)
        except OSError:
            pass
    d.store = None
    d.note("kept values are forgotten")
    d.after(_SOON, machine.reset)
