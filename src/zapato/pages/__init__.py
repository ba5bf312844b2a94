"""Reports: self-contained pages of a device and of a site."""

from zapato.pages.device import device_page
from zapato.pages.site_page import site_page, write_site

__all__ = ["device_page", "site_page", "write_site"]
