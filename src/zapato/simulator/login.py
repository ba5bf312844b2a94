"""Who may connect to the embedded broker, where it is not for this machine alone."""

from __future__ import annotations

import hmac
from typing import Any

from amqtt.plugins.base import BaseAuthPlugin  # type: ignore

from zapato.record import record


class Login(BaseAuthPlugin):  # type: ignore
    """One user and password for all, as the site's [mqtt] has them."""

    async def authenticate(self, *, session: Any) -> bool:
        wanted: str = f"{self.config.user}\0{self.config.password}"  # type: ignore
        given = f"{session.username or ''}\0{session.password or ''}"
        return hmac.compare_digest(wanted.encode(), given.encode())

    @record
    class Config:  # type: ignore
        """What the broker is told of it."""

        user: str
        password: str
