"""mqtt-greeting: topic, user and password are too long for what the device says first to the broker."""

from collections.abc import Iterator

from zapato.checks.rule import DesignRule
from zapato.design.design import Design
from zapato.findings import Finding

ROOM = 384
"""Bytes that may wait to leave (runtime/mqtt.py, _ROOM; a test compares them)."""


def greeting(topic: str, user: str, password: str) -> int:
    """Bytes of CONNECT (MQTT 3.1.1, 3.1): its head, the client's name, the will under `state`, user and password."""
    texts = [
        topic,
        f"{topic}/state",
        "offline",
        *([user, password] if user and password else [user] if user else []),
    ]
    return 3 + 10 + sum(2 + len(text.encode()) for text in texts)


def _find(design: Design) -> Iterator[Finding]:
    mqtt = design.mqtt
    if mqtt is None:
        return
    taken = greeting(design.topic, str(mqtt.get("user") or ""), str(mqtt.get("password") or ""))
    if taken > ROOM:
        yield design.finding(
            "mqtt-greeting",
            "error",
            ("device",),
            f"topic, user and password of {design.name} make an MQTT CONNECT message of {taken} bytes, and the device has room for {ROOM}",
            why="the message holds the topic twice, and user and password; the device sends it in one piece.",
            fixes=("a shorter `topic` in [mqtt]", "a shorter user or password at the broker"),
            of="key",
        )


def _files(topic: str) -> str:
    return (
        'zapato = 1\n\n[device]\nname = "example"\nboard = "esp32-38pin"\n\n[wifi]\nname = "refuge-hall"\n\n'
        f'[mqtt]\nhost = "192.168.4.2"\nuser = "devices"\ntopic = "{topic}"\n'
    )


RULE = DesignRule(
    code="mqtt-greeting",
    family="network",
    severities=("error",),
    title="topic, user and password are too long for the MQTT CONNECT message",
    story="""
The CONNECT message holds the device's name, the topic of its will, user and password. The device sends it in one piece from a buffer
of 384 bytes: on the smallest chip a larger buffer would take memory from the program.
""",
    failing=_files("house/" + "/".join(["a-long-name-of-a-room"] * 8)),
    mended=_files("house/cellar/example"),
    find=_find,
)
