# What the release build of a small chip says seldom stands in a file beside the program.
import sys


def flash_text(at):
    # at: the first byte times 256, plus the length
    try:
        with open(sys.path[0] + "/texts") as file:
            file.seek(at >> 8)
            return file.read(at & 255)
    except OSError:
        return "text %d" % at
