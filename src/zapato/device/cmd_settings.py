# Told to ask for its settings: the minimal program opens an access point for them.
import json
import os
import sys

import machine


def do(d, given=None):
    sys.modules.pop("cmd_settings", None)
    with open("ask.json.new", "w") as file:
        json.dump({"settings": 1}, file)
    os.rename("ask.json.new", "ask.json")
    d.note("the access point opens")
    d.after(500, machine.reset)


def alone(d):
    # Nobody lets it in: asked for once after a power-up, so that an outage does not take the program away again and again.
    if machine.reset_cause() == machine.PWRON_RESET:
        do(d)
    else:
        sys.modules.pop("cmd_settings", None)
