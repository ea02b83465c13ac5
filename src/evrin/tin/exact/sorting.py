"""Sorting within kernels, in place and always to the same order."""

from evrin.kernels import Floats, Indices, Mutable, lean


@lean
def sort_by(values: Floats, order: Mutable[Indices], count: int) -> None:
    """Sort the first *count* rows of *order* by the value that each names, equal values by row.

    References
    ----------
    Williams, J. W. J. (1964). Algorithm 232: Heapsort. *Communications of the ACM* 7(6), 347-348.
    """
    for k in range(count // 2 - 1, -1, -1):
        _sink(values, order, k, count)
    for last in range(count - 1, 0, -1):
        order[0], order[last] = order[last], order[0]
        _sink(values, order, 0, last)


@lean
def _sink(values: Floats, order: Mutable[Indices], place: int, count: int) -> None:
    """Move the row at a place of the heap down until no row below it comes after it."""
    row = order[place]
    while 2 * place + 1 < count:
        child = 2 * place + 1
        if child + 1 < count and _precedes(values, order[child], order[child + 1]):
            child += 1
        if not _precedes(values, row, order[child]):
            break
        order[place] = order[child]
        place = child
    order[place] = row


@lean
def _precedes(values: Floats, a: int, b: int) -> bool:
    return bool(values[a] < values[b] or (values[a] == values[b] and a < b))
