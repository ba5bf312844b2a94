# Values among the bytes of frames and advertisements: (name, at, width, signed, little, scale, shift, truth) each.


def fits(pattern, data):
    # Whether these bytes begin as the pattern does: None while too few of them are there.
    fixed, mask = pattern[:2]
    for n in range(min(len(fixed), len(data))):
        if (data[n] ^ fixed[n]) & mask[n]:
            return False
    return None if len(data) < len(fixed) else True


def values(pattern, data):
    # What the slots of a pattern say.
    found = []
    for name, at, width, signed, little, scale, shift, is_truth in pattern[2]:
        raw = 0
        for n in range(width):
            raw = raw << 8 | data[at + (width - 1 - n if little else n)]
        if signed and raw >> width * 8 - 1:
            raw -= 1 << width * 8
        if is_truth:
            raw = raw != 0
        elif scale != 1 or shift:
            raw = round((raw - shift) / scale, 5)
            if raw == int(raw):
                raw = int(raw)
        found.append((name, raw))
    return found
