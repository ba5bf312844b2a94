"""Devices whose voltages are right, risky or harmful."""

I2C = "[i2c.main]\nsda = {}\nscl = {}\n"


BUS = I2C.format(21, 22)


def supply(name: str, volts: str, *rest: str) -> str:
    return f'[supply.{name}]\nvoltage = "{volts}"\n' + "".join(f"{line}\n" for line in rest)


def sensor(chip: str, *rest: str) -> str:
    return f'[sensor.s]\nchip = "{chip}"\n' + "".join(f"{line}\n" for line in rest)


ON_BOARD = "board = true"


FED = 'fed_from = "brick"'


CASES = [
    # board, tables, codes and severities that must be there
    ("esp32-38pin", supply("brick", "24V", ON_BOARD), {"volt-supply": "error"}),
    ("esp32-38pin", supply("brick", "5V", ON_BOARD), {}),
    ("esp32-38pin", supply("brick", "3.3V", ON_BOARD), {}),
    ("esp32-38pin", supply("brick", "3.3V", ON_BOARD, 'input = "5V"'), {"volt-supply": "error"}),
    ("esp32-38pin", supply("brick", "5V", ON_BOARD, 'input = "VIN"'), {"volt-supply": "error"}),
    ("esp32-38pin", supply("a", "5V", ON_BOARD) + supply("b", "5V", ON_BOARD), {"volt-supply": "error"}),
    ("esp8266-8pin", supply("brick", "5V", ON_BOARD), {"volt-supply": "error"}),
    ("esp8266-8pin", supply("brick", "3.3V", ON_BOARD), {}),
    ("rp2040w-40pin", supply("pack", "3.7V", 'battery = "2Ah"', ON_BOARD), {}),
    ("esp32-30pin", supply("pack", "3.7V", 'battery = "2Ah"', ON_BOARD), {"volt-supply": "warning"}),
    ("esp32-30pin", supply("pack", "5V", 'range = "4.2V-5.4V"', ON_BOARD), {"volt-supply": "warning"}),
    ("esp32s3-16in16out", supply("brick", "24V", ON_BOARD), {}),
    ("esp32s3-16in16out", supply("brick", "5V", ON_BOARD), {"volt-supply": "error"}),
    ("esp8266-8relay", supply("brick", "24V", ON_BOARD), {"volt-supply": "error"}),
    ("esp32-38pin", supply("brick", "12V") + BUS + sensor("bme280", 'bus = "main"', FED), {"volt-supply": "error"}),
    ("esp32-38pin", BUS + sensor("bme280", 'bus = "main"', 'fed_from = "5V"'), {"volt-supply": "error"}),
    ("esp32-38pin", BUS + sensor("bme280", 'bus = "main"', 'fed_from = "5V"', 'module = "3.3V-5V"'), {}),
    ("esp32-38pin", BUS + sensor("bme280", 'bus = "main"'), {}),
    ("esp32-38pin", BUS + sensor("sht31", 'bus = "main"', 'fed_from = "5V"'), {"volt-logic": "error"}),
    ("esp32-38pin", BUS + sensor("sht31", 'bus = "main"', 'fed_from = "5V"', "shifted = true"), {}),
    ("esp32-38pin", sensor("echo", "pin = 25", "trigger = 26", 'fed_from = "5V"'), {"volt-logic": "error"}),
    ("esp32-38pin", sensor("echo", "pin = 25", "trigger = 26", 'fed_from = "5V"', 'level = "3.2V"'), {}),
    ("esp32-38pin", sensor("dht22", "pin = 25", 'fed_from = "5V"'), {"volt-logic": "error"}),
    ("esp32-38pin", '[motion.path]\npin = 27\nlevel = "5V"\n', {"volt-logic": "error"}),
    ("esp32-38pin", BUS + 'level = "5V"\n', {"volt-logic": "error"}),
    ("esp32-38pin", BUS + 'level = "3.3V"\n', {}),
    ("esp32-38pin", '[onewire.w]\npin = 25\npull_up = "4.7kohm"\nlevel = "5V"\n', {"volt-logic": "error"}),
    ("esp32-38pin", supply("brick", "12V") + '[blind.b]\nopen = 25\nclose = 26\ncoil_voltage = "5V"\n' + FED, {"volt-supply": "error"}),
    ("esp32-38pin", '[blind.b]\nopen = 25\nclose = 26\ncoil_voltage = "5V"\n', {}),
    ("esp32-38pin", sensor("analog", "pin = 34", 'source_resistance = "3Mohm"'), {"analog-source": "warning"}),
    ("esp8266-30pin", sensor("analog", 'pin = "A0"', 'source_resistance = "10kohm"'), {"analog-source": "warning"}),
    ("esp8266-30pin", sensor("analog", 'pin = "A0"', 'source_resistance = "1Mohm"', 'divider = ["0ohm", "1Mohm"]'), {"analog-source": "warning"}),
    ("esp8266-30pin", sensor("analog", 'pin = "A0"', 'source_resistance = "5kohm"'), {}),
    ("esp32-38pin", sensor("dht22", "pin = 25", 'fed_from = "5V"', 'level = "3.3V"'), {}),
    (
        "esp32-38pin",
        BUS + '[expander.io]\nchip = "mcp23017"\nbus = "main"\nsupply = "5V"\nfed_from = "5V"\n',
        {"volt-logic": "error"},
    ),
    ("esp32-38pin", BUS + '[expander.io]\nchip = "mcp23017"\nbus = "main"\nsupply = "5V"\n', {"volt-supply": "error"}),
    (
        "esp32-38pin",
        supply("pack", "12V", 'battery = "7Ah"') + '[relay.r]\npin = 26\ncoil_voltage = "12V"\nfed_from = "pack"\n',
        {},
    ),
    ("esp32-38pin", '[relay.r]\npin = 26\ncoil_voltage = "12V"\n', {"volt-supply": "error"}),
    ("esp32-38pin", '[relay.r]\npin = 26\ncoil_voltage = "5V"\n', {}),
    (
        "esp32-38pin",
        supply("brick", "12V") + '[strip.s]\npin = 13\ncount = 9\nlevel = "5V"\nchip = "ws2812b"\n' + FED,
        {"volt-supply": "error"},
    ),
    ("esp32-38pin", supply("brick", "12V") + '[strip.s]\npin = 13\ncount = 9\nlevel = "5V"\nchip = "ws2815"\n' + FED, {}),
    ("esp32-38pin", supply("a", "5V", 'from = "b"'), {"volt-supply": "error"}),
    ("esp32-38pin", supply("a", "5V", 'from = "a"'), {"volt-supply": "error"}),
    ("esp32-38pin", supply("a", "5V", 'from = "b"') + supply("b", "12V", 'from = "a"'), {"volt-supply": "error"}),
]  # fmt: skip
