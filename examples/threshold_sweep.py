"""A rehearsal swept over a threshold: how long the heater runs, drawn over the limit that stops it."""

import sys
import tempfile
from pathlib import Path

from matplotlib.figure import Figure

import zapato
from zapato.demo.copy import copy_site

with tempfile.TemporaryDirectory() as folder:
    list(copy_site(Path(folder)))
    device = Path(folder) / "devices" / "boot-dryer.toml"
    text = device.read_text("utf-8")
    limits, minutes = [50, 65], []
    for limit in limits:
        device.write_text(text.replace("cabinet.temperature > 60", f"cabinet.temperature > {limit}"), "utf-8")
        frame = zapato.rehearse(device).frame
        heater = frame[(frame.what == "pin") & (frame.name == "GPIO26")]
        spans = heater.t.shift(-1).fillna(frame.t.max()) - heater.t
        minutes.append(spans[heater.value == 1].sum() / 60)
        print(f"stops at {limit} °C: the heater runs {minutes[-1]:.0f} min")

figure = Figure(figsize=(8, 5), layout="constrained")
axis = figure.subplots()
axis.plot(limits, minutes, marker="o")
axis.set(xlabel="limit, °C", ylabel="heater on, min of the day", ylim=(0, None))
figure.savefig(sys.argv[1] if len(sys.argv) > 1 else "threshold.png")
