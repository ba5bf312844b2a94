# Words of sixteen bits with a check byte each, as several makers' chips send them.

def crc8(data, size):
    # Of `size` bytes and the check byte behind them: 0 where they fit (polynomial 0x31, begun with 0xff).
    crc = 255
    for at in range(size + 1):
        crc ^= data[at]
        for _ in range(8):
            crc = (crc << 1 ^ 0x31 if crc & 128 else crc << 1) & 255
    return crc


def words(data):
    # Sixteen bits each with its check byte.
    found = []
    for at in range(0, len(data), 3):
        if crc8(data[at : at + 3], 2):
            raise ValueError("the check sum is wrong")
        found.append(data[at] << 8 | data[at + 1])
    return found
