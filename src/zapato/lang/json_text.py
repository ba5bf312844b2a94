"""JSON that somebody else wrote: a device, a broker's client, a browser, a file."""

import json
from typing import Any


def read_json(text: str | bytes) -> Any:
    """The value of a JSON text.

    Raises ValueError where it is none, is not UTF-8, or is nested more deeply than Python reads.
    """
    try:
        return json.loads(text)
    except RecursionError:
        raise ValueError("nested too deeply") from None
