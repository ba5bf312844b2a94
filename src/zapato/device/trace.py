# Where an error came from: the two innermost places.
import io
import sys


def of(error):
    out = io.StringIO()
    sys.print_exception(error, out)  # type: ignore
    places = [line.strip()[5:] for line in out.getvalue().split("\n") if line.strip()[:5] == "File "]  # type: ignore
    return ", at " + "; ".join(places[-2:])
