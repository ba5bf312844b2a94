# What comes from outside is looked at before it acts.


def truth(value):
    if value is True or value is False:
        return value
    raise ValueError("takes true or false")


def number(value, low=None, high=None):
    if isinstance(value, bool) or not isinstance(value, (int, float)) or value - value != 0:
        raise ValueError("takes a number")
    if (low is not None and value < low) or (high is not None and value > high):
        raise ValueError("is out of its range")
    return value


def span(ms):
    # A time in ms; the longest is a year.
    number(ms, 1, 31622400000)
    return int(ms)
