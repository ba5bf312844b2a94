"""Who may connect to the embedded broker, where it is not for this machine alone."""

from __future__ import annotations

import hmac
from dataclasses import dataclass
from typing import Any

from amqtt.plugins.base import BaseAuthPlugin  # type: ignore


class Login(BaseAuthPlugin):  # type: ignore
    """One user and password for all, as the site's [mqtt] has them."""

    async def authenticate(self, *, session: Any) -> bool:
        wanted = (self.config.user, self.config.password)  # type: ignore
        given = (session.username or "", session.password or "")
        return all(hmac.compare_digest(str(a).encode(), str(b).encode()) for a, b in zip(wanted, given, strict=True))

    @dataclass
    class Config:
        user: str
        password: str
