# Told to tell how it is.
import sys


def do(d, given=None):
    sys.modules.pop("own_tell", None)
    d.net.vitals()
