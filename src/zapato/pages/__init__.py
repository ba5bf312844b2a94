"""Reports: self-contained pages of a device and of a site."""

from zapato.pages.device import device_page
from zapato.pages.site_page import DeviceReport, DeviceRow, device_report, site_page

__all__ = ["DeviceReport", "DeviceRow", "device_page", "device_report", "site_page"]
