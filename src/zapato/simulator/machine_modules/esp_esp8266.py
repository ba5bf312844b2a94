# Stands in for the port's esp module, as far as the flash goes: the SDK's sectors at its end.
from world import ask


def flash_size():
    return int(ask("flash_size"))


def flash_erase(sector):
    ask("flash_erase", str(sector))
