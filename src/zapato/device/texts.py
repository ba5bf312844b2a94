# Values as people read them, in the notes of links.


def show(value, spec):
    if value is None:
        return "?"
    if spec:
        try:
            return ("{:" + spec + "}").format(value)
        except (ValueError, TypeError):
            pass
    if isinstance(value, float):
        return ("%.2f" % value).rstrip("0").rstrip(".")
    return ("yes" if value else "no") if isinstance(value, bool) else str(value)
