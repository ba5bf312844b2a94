# Values that outlive a power cut: a small JSON file, replaced whole.
import json
import os

NAME = "kept.json"


def load():
    try:
        with open(NAME) as file:
            return json.load(file)
    except (OSError, ValueError):
        return {}


def get(key, default):
    return load().get(key, default)


def put(key, value):
    kept = load()
    kept[key] = value
    with open(NAME + ".new", "w") as file:
        json.dump(kept, file)
    os.rename(NAME + ".new", NAME)
