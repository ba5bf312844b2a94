"""A real browser for the tests: Debian's Chromium, headless."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any, TypeVar

T = TypeVar("T")
FLAGS = (
    "--headless=new",
    "--no-sandbox",
    "--disable-gpu",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    "--window-size=1280,800",
)


def soon(look: Callable[[], T], seconds: float = 20) -> T:
    """What `look` gives as soon as that is true."""
    until = time.monotonic() + seconds
    while not (found := look()):
        assert time.monotonic() < until, "it never came"
        time.sleep(0.05)
    return found


class Page:
    """The window."""

    def __init__(self, driver: Any) -> None:
        self.driver = driver
        self.get, self.shot = driver.get, driver.save_screenshot

    def all(self, css: str) -> list[Any]:
        return self.driver.find_elements("css selector", css)

    def texts(self, css: str) -> list[str]:
        return self._each(css, "e.checkVisibility() ? e.innerText.trim() : ''")

    def attribute(self, css: str, name: str) -> str:
        return self._each(css, f"e.getAttribute('{name}')")[0]

    def _each(self, css: str, what: str) -> list[str]:
        """Of every element at once: the page may be made anew between two looks."""
        return self.driver.execute_script(
            f"return [...document.querySelectorAll(arguments[0])].map((e) => {what})", css
        )

    def text(self, css: str) -> str:
        return self.texts(css)[0]

    def value(self, css: str) -> str:
        return self.all(css)[0].get_attribute("value")

    def click(self, css: str) -> None:
        self.all(css)[0].click()

    def type(self, css: str, text: str) -> None:
        field = self.all(css)[0]
        field.clear()
        field.send_keys(text)

    def errors(self) -> list[str]:
        return [row["message"] for row in self.driver.get_log("browser") if row["level"] == "SEVERE"]


@contextmanager
def chromium() -> Iterator[Page]:
    """An empty window, closed at the end."""
    from selenium import webdriver

    options = webdriver.ChromeOptions()
    for flag in FLAGS:
        options.add_argument(flag)
    options.set_capability("goog:loggingPrefs", {"browser": "ALL"})
    driver = webdriver.Chrome(options=options, service=webdriver.ChromeService("/usr/bin/chromedriver"))
    try:
        yield Page(driver)
    finally:
        driver.quit()
