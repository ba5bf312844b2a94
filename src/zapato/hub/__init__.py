"""The small hub: finds devices by their descriptions, follows them, drives them, remembers, and tells when something is wrong."""

from zapato.hub.history import History
from zapato.hub.hub import Hub
from zapato.hub.service import Service

__all__ = ["History", "Hub", "Service"]
