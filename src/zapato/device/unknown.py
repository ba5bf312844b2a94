# An action whose expression reads a value that nobody knows yet is left undone, and told.


def unknown():
    raise ValueError("it reads a value that is not known yet")
