"""The page beside the editor: in a real browser, while the file is saved."""

import threading
from contextlib import contextmanager
from pathlib import Path

import pytest
from support.browser import chromium, soon

from zapato.errors import ZapatoError
from zapato.pages.follow import PARTS, Followed
from zapato.pages.serve import LookPage


@contextmanager
def served(path: Path):
    """The page of a device file, while it is followed."""
    page, ended = LookPage(Followed(path)), threading.Event()
    follows = threading.Thread(target=page.run, args=(lambda: None, lambda: not ended.is_set()), daemon=True)
    follows.start()
    try:
        yield page
    finally:
        ended.set()
        follows.join(10)


def test_the_page_follows_what_is_saved(site):
    path = site / "devices" / "kettle-plug.toml"
    text = path.read_text()
    with served(path) as page, chromium() as window:
        window.get(page.address)
        soon(lambda: "It can be built" in window.text("#verdict"), 30)
        soon(lambda: window.all("#budget svg"), 30)
        assert all(window.all(f"#{name}") for name in PARTS)
        path.write_text(text.replace("[relay.", "[relai.", 1))
        soon(lambda: "unknown-kind" in window.text("#verdict"), 30)
        path.write_text("= broken")
        soon(lambda: "toml-syntax" in window.text("#verdict"), 30)
        path.unlink()
        path.write_text(text)
        soon(lambda: "It can be built" in window.text("#verdict"), 30)
        assert not window.errors()


def test_only_this_machine_is_answered(site):
    import http.client

    def get(page: LookPage, path: str, host: str = "127.0.0.1") -> int:
        way = http.client.HTTPConnection("127.0.0.1", page.port, timeout=20)
        way.request("GET", path, headers={"Host": host})
        return way.getresponse().status

    with served(site / "devices" / "kettle-plug.toml") as page:
        assert get(page, "/") == 200 and get(page, "/part/verdict") == 200
        assert get(page, "/", "elsewhere.example") == 400
        assert get(page, "/part/secrets") == 404 and get(page, "/part/..%2f..%2fsecrets.toml") == 404
        with pytest.raises(ZapatoError, match="cannot be at port"):
            LookPage(page.followed, page.port)
