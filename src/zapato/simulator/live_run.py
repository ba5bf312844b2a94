"""A rehearsal in real time: the same program and script, this machine's clock, a real broker."""

from __future__ import annotations

import ssl
import threading
from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from zapato.design import Design, resolve
from zapato.design.acts import Call
from zapato.design.script import Script, read_act, read_script
from zapato.errors import Refused, RehearsalInvalid, ZapatoError
from zapato.firmware.layout import delivered
from zapato.firmware.plan import settings
from zapato.firmware.program import compile_device
from zapato.simulator import vm
from zapato.simulator.embedded import EmbeddedBroker
from zapato.simulator.live import LiveBoard
from zapato.simulator.real_port import RealPort
from zapato.simulator.rehearse import (
    NETWORK,
    PASSWORD,
    default_script,
    machine_modules,
    prepare,
    refuse,
    result_of,
)
from zapato.simulator.result import Crash, Rehearsal
from zapato.simulator.scenario import Messages

if TYPE_CHECKING:
    import paho.mqtt.client as mqtt

UNHEARD = ("server", "lookup", "tells_time", "fill_in")
"""Acts on the broker, on names and with a phone: what is real is left alone, and the page is a real one."""
JOIN = 10.0
"""Seconds to reach the broker."""


def _network(given: Mapping[str, Any]) -> tuple[str, str] | None:
    """Name and password of the network that lets the device in: its own, or the simulator's; None for a cable."""
    wifi: Mapping[str, str] | None = given.get("wifi")
    if wifi is None:
        return None
    return (wifi["name"], wifi["password"]) if wifi.get("name") else (NETWORK, PASSWORD)


class Listener:
    """The host's own client at the broker: hears what is said under these topics, and publishes what the script says."""

    def __init__(
        self,
        topics: Sequence[str],
        host: str,
        port: int,
        user: str,
        password: str,
        heard: Callable[[str, str, bool], None],
        authority: bytes = b"",
    ) -> None:
        import paho.mqtt.client as mqtt
        from paho.mqtt.enums import CallbackAPIVersion

        self.seen: list[tuple[str, str]] = []
        self._topics, self._heard = topics, heard
        self._joined = threading.Event()
        self._refused = ""
        self.client = mqtt.Client(CallbackAPIVersion.VERSION2)
        if user:
            self.client.username_pw_set(user, password or None)
        if authority:
            context = ssl.create_default_context(cadata=authority)
            self.client.tls_set_context(context)
        self.client.on_connect, self.client.on_message = self._connected, self._message
        try:
            self.client.connect(host, port)
        except (OSError, ValueError) as error:
            raise ZapatoError(
                f"no broker answers at {host}:{port}: {error}",
                "--broker HOST:PORT names another; without it there is an embedded one",
            ) from None
        self.client.loop_start()
        if not self._joined.wait(JOIN) or self._refused:
            self.close()
            raise ZapatoError(
                f"the broker at {host}:{port} refuses the connection: {self._refused or 'no answer'}",
                "user and password stand in [mqtt]",
            )

    def _connected(self, client: mqtt.Client, _data: Any, _flags: Any, code: Any, *_rest: Any) -> None:
        if code.is_failure:
            self._refused = str(code)
        else:
            for topic in self._topics:
                client.subscribe(f"{topic}/#", 1)
        self._joined.set()

    def _message(self, _client: mqtt.Client, _data: Any, message: mqtt.MQTTMessage) -> None:
        text = bytes(message.payload).decode("utf-8", "replace")
        self._heard(message.topic, text, bool(message.retain))

    def message(self, topic: str, payload: str, retain: bool = False) -> None:
        """Publish for the script."""
        self.client.publish(topic, payload.encode(), 1, retain)

    def close(self) -> None:
        self.client.disconnect()
        self.client.loop_stop()


class Live:
    """A device's firmware, alive at the desk.

    `broker` is (host, port) of a real one; without, one is embedded where the device speaks MQTT. `script` is a
    rehearsal file whose steps are played; without, the world begins as in the device's own rehearsal, where it
    has one. `serial` puts real ports at the ends of serial links, by the link's name. `on_row` hears of everything that happens, as a row of the trace, in another thread.
    With a `speaker` the device is one of many: that client publishes for its acts, what devices say is nobody's to hear, and no trace is kept.

    Raises what `rehearse` raises, and ZapatoError where the broker cannot be reached.
    """

    def __init__(
        self,
        what: Design | Path | str,
        *,
        script: Path | str | None = None,
        broker: tuple[str, int] | None = None,
        serial: Mapping[str, str] | None = None,
        on_row: Callable[[Mapping[str, Any]], None] | None = None,
        speaker: Messages | None = None,
    ) -> None:
        self.design = design = what if isinstance(what, Design) else resolve(Path(what))
        refuse(design)
        assert design.board
        vm.ready(design.board.chip.port)
        self.script = self._script(script)
        given: dict[str, Any] = settings(design, design.site.update_keys.get(design.name) or "00" * 32)
        self._embedded = EmbeddedBroker() if design.mqtt is not None and broker is None else None
        self._listener: Listener | None = None
        program = compile_device(design)
        if self._embedded and "authority" in given:
            raise Refused("the embedded broker speaks no TLS", "--broker HOST:PORT names one that does")
        if self._embedded:
            self._embedded.start()
            broker = (self._embedded.host, self._embedded.port)
        self.broker = broker
        if "mqtt" in given and broker:
            given["mqtt"] |= {"host": broker[0], "port": broker[1]}
        self.board = LiveBoard(
            design.board,
            delivered(design, program, given),
            machine_modules(design.board.chip.port),
            on_row,
            program.map.with_source_places,
            _network(given),
            keeps=speaker is None,
        )
        try:
            if "mqtt" in given and broker and speaker is None:
                row = given["mqtt"]
                ca = bytes.fromhex(given.get("authority", ""))
                self._listener = Listener(
                    (design.topic,), *broker, row["user"], row["password"], self._heard, ca
                )
            if self._embedded is None:
                self.script.said.clear()  # nobody speaks for others at a real broker
            self.runner = prepare(
                design, self.script, self.board.board, self.board.air, speaker or self._listener
            )
            for name, port in (serial or {}).items():
                self._join(name, port)
        except BaseException:
            self._close()
            raise

    def _join(self, name: str, port: str) -> None:
        """A real port takes the place of who is at the end of a link."""
        part = self.design.parts.get(name)
        at = (part.pins.get("rx") or part.pins.get("tx")) if part and part.has_role("uart") else None
        if part is None or at is None:
            links = ", ".join(part.name for part in self.design.with_role("uart")) or "none"
            raise ZapatoError(f"{name} is no serial link of {self.design.name}", f"its links: {links}")
        line = self.board.board.serial(at.gpio)
        line.peers = [RealPort(line, port, part.get("baud", 9600))]

    def _script(self, script: Path | str | None) -> Script:
        path = Path(script) if script else None
        if path is None:
            try:
                path = default_script(self.design)
            except ZapatoError:
                return Script(self.design.document, "by hand")
        read = read_script(path, self.design)
        source = read.document.source
        if read.document.findings:
            raise RehearsalInvalid(
                f"{source.name} cannot be rehearsed",
                "",
                tuple(read.document.findings),
                {source.name: source.text},
            )
        if script is None:
            read.steps.clear()
            read.lasts, read.title = 0, "by hand"
        for step in read.steps:
            if step.act_call and step.act_call.name in UNHEARD:
                raise Refused(
                    f"{step.text} belongs to virtual time: a live rehearsal leaves broker and names as they are"
                )
        return read

    def _heard(self, topic: str, payload: str, retain: bool) -> None:
        """A message at the broker; noted in the board's own thread."""

        def note() -> None:
            own = not topic.endswith("/set") and "/do/" not in topic
            if own and self._listener:
                self._listener.seen.append((topic, payload))
            self.board.trace.log("mqtt" if own else "message", topic, payload, retain=retain)

        self.board.clock.post(note)

    def start(self) -> None:
        """Power up."""
        self.board.start()

    def wait(self, seconds: float | None = None) -> bool:
        """Wait for the end of the script, or of the program; True where it came."""
        return self.board.over.wait(seconds)

    def act(self, text: str) -> None:
        """Do one act, written as in a rehearsal. Raises Refused with what is wrong with it."""
        call, mistake = read_act(self.design, text)
        if mistake or call is None:
            raise Refused(
                mistake.message if mistake else "no act", "; ".join(mistake.fixes) if mistake else ""
            )
        if call.name in UNHEARD:
            raise Refused(f"{text} belongs to virtual time: here broker and names are left as they are")

        def do(call: Call = call) -> None:
            self.board.trace.log("act", text, -1)
            self.runner.act(call)

        self.board.clock.post(do)

    def pull(self) -> Crash | None:
        """Pull the plug; what had ended the program before, if anything did."""
        self.board.stop()
        self._close()
        return self.board.crash

    def stop(self) -> Rehearsal:
        """Pull the plug; what was seen until then."""
        self.pull()
        board = self.board
        self.script.lasts = board.clock.now
        seconds = board.clock.now / 1000
        made = result_of(self.design, self.script, board.board, board.trace, board.crash, seconds)
        return replace(made, live=True)

    def _close(self) -> None:
        for line in self.board.board.serials.values():
            for peer in line.peers:
                peer.close()
        if self._listener:
            self._listener.close()
        if self._embedded:
            self._embedded.stop()
