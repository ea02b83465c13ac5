"""Counting things in words."""


def counted(count: int, thing: str, things: str = "") -> str:
    """Return a count with its noun.

    Examples
    --------
    >>> counted(1, "ring"), counted(2000, "ring"), counted(2, "vertex", "vertices")
    ('1 ring', '2,000 rings', '2 vertices')
    """
    return f"{count:,} {thing if count == 1 else things or thing + 's'}"
