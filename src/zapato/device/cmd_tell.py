# Told to tell how it is: by which number an offer of an update is known to be for now, where it is, and what runs.
from binascii import hexlify
import hashlib
import json
import os
import sys


def digest():
    # Of the manifest of what runs: it tells two programs of one version apart.
    found = hashlib.sha256(b"")
    try:
        with open(sys.path[0][:2] + "/manifest.json", "rb") as file:
            while True:
                piece = file.read(128)
                if not piece:
                    return hexlify(found.digest()).decode()[:8]
                found.update(piece)
    except OSError:
        return ""


def do(d, given=None):
    sys.modules.pop("cmd_tell", None)
    if not getattr(d, "number", None):
        d.number = hexlify(os.urandom(4)).decode()
    if d.out:
        d.out.send("update/number", d.number)
        address = (d.net.radio(d.net.wlan.ifconfig) or ("",))[0]
        d.out.send("update/runs", json.dumps([d.version, digest(), address]))
    d.net.vitals()
