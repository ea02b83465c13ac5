"""Counting things in words."""


def counted(count: int, thing: str, things: str = "") -> str:
    """Return a count with its noun.

    Examples
    --------
    >>> counted(1, "ring"), counted(2000, "ring"), counted(2, "vertex", "vertices")
    ('1 ring', '2,000 rings', '2 vertices')
    """
    return f"{count:,} {thing if count == 1 else things or thing + 's'}"


_POINTS = ("north", "north-east", "east", "south-east", "south", "south-west", "west", "north-west")


def compass_point(bearing_deg: float) -> str:
    """Return the nearest of the eight points of the compass.

    Examples
    --------
    >>> compass_point(225), compass_point(-10)
    ('south-west', 'north')
    """
    return _POINTS[round(bearing_deg % 360.0 / 45.0) % 8]
