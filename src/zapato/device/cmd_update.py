# An update is offered: by who holds the key, for now, from the version that runs to one that is not lower.
from binascii import hexlify, unhexlify
import hashlib
import json
import os
import sys

import machine


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


def do(d, given=None):
    # [version, beginning of its manifest's digest, seal]
    sys.modules.pop("cmd_update", None)
    version, head, offered = given  # type: ignore
    if version == getattr(d, "updates", None):  # it comes already
        return
    with open("settings.json") as file:
        key = unhexlify(json.load(file)["update_key"])
    number = getattr(d, "number", None)  # without one nobody was told any: what comes was recorded earlier
    text = "update %s %s %s %s %s" % (d.topic, d.version, version, head, number)
    if not number or not same(seal(key, (text.encode(),)), offered):
        raise ValueError("the offer is not for now, or not from who holds this device's key")
    if rank(version) < rank(d.version):
        raise ValueError("%s is older than %s" % (version, d.version))
    if "slots.json" in os.listdir():  # the slot that would be written is the one to go back to
        raise ValueError("version %s is on trial for two minutes" % d.version)
    d.number = None
    put("ask.json", {"update": version, "head": head})
    d.note("update to %s begins" % version)
    d.after(500, machine.reset)
