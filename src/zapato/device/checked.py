# Words of sixteen bits with a check byte each, as several makers' chips send them.

def crc8(data, size, polynomial=0x31, crc=255):
    # Of `size` bytes and the check byte behind them: 0 where they fit.
    for at in range(size + 1):
        crc ^= data[at]
        for _ in range(8):
            crc = (crc << 1 ^ polynomial if crc & 128 else crc << 1) & 255
    return crc


def words(data):
    # Sixteen bits each with its check byte.
    found = []
    for at in range(0, len(data), 3):
        if crc8(data[at : at + 3], 2):
            raise ValueError("the check sum is wrong")
        found.append(data[at] << 8 | data[at + 1])
    return found
