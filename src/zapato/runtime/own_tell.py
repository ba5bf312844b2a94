# Told to tell how it is, and by which number an offer of an update is known to be for now.
from binascii import hexlify
import os
import sys


def do(d, given=None):
    sys.modules.pop("own_tell", None)
    if not getattr(d, "number", None):
        d.number = hexlify(os.urandom(4)).decode()
    if d.out:
        d.out.send("update/number", d.number)
    d.net.vitals()
