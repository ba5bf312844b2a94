# Told to restart.
import sys

import machine


def do(d, given=None):
    sys.modules.pop("cmd_restart", None)
    d.after(500, machine.reset)  # what was said leaves before
