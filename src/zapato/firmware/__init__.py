"""Firmware: plan, compiled modules, update packages."""

from zapato.firmware.build import Build, build

__all__ = ["Build", "build"]
