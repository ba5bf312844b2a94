"""What a live rehearsal tells, waited for."""

import queue


def until(rows: queue.Queue, what: str, name: str = "", value: str = "") -> None:
    """Take rows of the trace until one of this sort comes, whose name and value begin like these."""
    while True:
        row = rows.get(timeout=60)
        if row["what"] == what and row["name"].startswith(name) and str(row["value"]).startswith(value):
            return
