"""Decimal numbers in bytes: read exactly, and written as short as they come back.

A number of at most 15 to 16 digits is a whole number divided by a power of ten, both of which floating point holds
exactly, so that one division gives the double nearest to it: what the text states, to the last bit.

A longer one, of at most 18 digits, is divided to twice the digits of a double.

References
----------
Clinger, W. D. (1990). How to read floating point numbers accurately. *PLDI '90*, 92-101.
https://doi.org/10.1145/93542.93557
"""

import math

import numpy as np

from evrin.kernels import Bytes, FloatRows, IndexStacks, Indices, IntRows, Ints, Mutable, as_index, inner, kernel, lean
from evrin.tin.exact.predicates import two_product

_MOST = np.int64(2**53)
_ALMOST_ONE = 1.0 - 2.0**-40
_DECIMALS = 12
POWERS = 10.0 ** np.arange(23)
_EXACT, _MOST_DIGITS, _MOST_DECIMALS, _MOST_WHOLE = 2**53, 18, 22, 15
_MINUS, _PLUS, _POINT, _ZERO, _QUOTE = 45, 43, 46, 48, 34


@lean
def _long_quotient(whole: int, power: float) -> float:
    """The double nearest to a whole number divided by a power of ten, NaN where that is too close to call.

    The quotient is worked out to twice the digits; what is left behind the last one shows which way it is rounded.
    """
    high = float(whole)
    low = np.float64(whole - np.int64(high))
    first = high / power
    product, error = two_product(first, power)
    second = (((high - product) - error) + low) / power
    nearest = first + second
    rest = abs(second - (nearest - first))
    mantissa, exponent = math.frexp(nearest)
    half = math.ldexp(1.0, exponent - 54)
    return nearest if mantissa != 0.5 and rest < half * _ALMOST_ONE else np.nan


@lean
def read_whole(data: Bytes, start: int, stop: int) -> int:
    """The whole number that some bytes are, -1 where they are none, or one that is not written as one usually is."""
    if stop <= start or stop - start > _MOST_WHOLE or (data[start] == _ZERO and stop - start > 1):
        return -1
    value = as_index(0)
    for k in range(start, stop):
        digit = as_index(data[k]) - _ZERO
        if not 0 <= digit <= 9:
            return -1
        value = value * 10 + digit
    return value


@lean
def _read_digits(data: Bytes, at: int, whole: int) -> tuple[int, int]:
    """Append the digits that begin at a byte to a whole number; return it and where they end."""
    end = as_index(data.shape[0])
    while at < end:
        digit = as_index(data[at]) - _ZERO
        if digit < 0 or digit > 9:
            break
        whole = whole * 10 + digit
        at += 1
    return whole, at


@lean
def _leading_zeros(data: Bytes, at: int) -> int:
    zeros = as_index(0)
    while at < data.shape[0] and (data[at] == _ZERO or data[at] == _POINT):
        zeros += data[at] == _ZERO
        at += 1
    return zeros


@lean
def read_number(data: Bytes, at: int) -> tuple[float, int]:
    """The number that begins at a byte, and where it ends; -1 where none is written plainly: no exponent, 18 digits."""
    end = as_index(data.shape[0])
    negative = False
    if at < end and (data[at] == _MINUS or data[at] == _PLUS):
        negative = data[at] == _MINUS
        at += 1
    first = at
    whole, at = _read_digits(data, at, as_index(0))
    digits = at - first
    decimals = as_index(0)
    if at < end and data[at] == _POINT:
        point = at
        whole, at = _read_digits(data, at + 1, whole)
        decimals = at - point - 1
    digits += decimals
    if digits == 0 or decimals > _MOST_DECIMALS:
        return np.nan, -1
    if digits > _MOST_DIGITS and digits - _leading_zeros(data, first) > _MOST_DIGITS:
        return np.nan, -1
    value = whole / POWERS[decimals] if whole < _EXACT else _long_quotient(whole, POWERS[decimals])
    if value != value:
        return np.nan, -1
    return (-value if negative else value), at


@inner
def write_whole(value: int, out: Mutable[Bytes], at: int) -> int:
    """Write a whole number from *at* on; return where it ends."""
    rest = np.int64(value)
    if rest == 0:
        out[at] = _ZERO
        return at + 1
    size = as_index(0)
    left = rest
    while left > 0:
        left //= 10
        size += 1
    for k in range(size):
        out[at + size - 1 - k] = _ZERO + rest % 10
        rest //= 10
    return at + size


@inner
def write_decimal(value: float, out: Mutable[Bytes], at: int) -> int:
    """Write a number as short as it comes back, one decimal at least; return where it ends, or -1 where it is long."""
    size = abs(value)
    if not size < 1e9:
        return -1
    if math.copysign(1.0, value) < 0.0:
        out[at] = _MINUS
        at += 1
    for decimals in range(1, _DECIMALS):
        scaled = size * POWERS[decimals]
        if scaled >= _MOST:
            return -1
        whole = np.int64(np.rint(scaled))
        if np.float64(whole) / POWERS[decimals] == size:
            # Smaller ones are written with an exponent elsewhere.
            if whole > 0 and size < 1e-4:
                return -1
            power = np.int64(POWERS[decimals])
            at = write_whole(int(whole // power), out, at)
            out[at] = _POINT
            rest = whole % power
            for k in range(decimals):
                out[at + decimals - k] = _ZERO + rest % 10
                rest //= 10
            return at + 1 + decimals
    return -1


@inner
def _copy(data: Bytes, start: int, stop: int, out: Mutable[Bytes], at: int) -> int:
    for k in range(start, stop):
        out[at] = data[k]
        at += 1
    return at


@kernel
def write_labels(
    data: Bytes, spans: IndexStacks, marks: Bytes, marks_at: Ints, out: Mutable[Bytes], label_at: Mutable[Indices]
) -> int:
    """Write, for each row, the texts it has, each between what comes before it and a quotation mark.

    *spans* (c, n, 2) has where the text of each column and row begins and ends; *label_at* takes where each row begins.
    """
    at = as_index(0)
    for row in range(spans.shape[1]):
        label_at[row] = at
        for column in range(spans.shape[0]):
            start, stop = spans[column, row, 0], spans[column, row, 1]
            if stop > start:
                at = _copy(marks, marks_at[column], marks_at[column + 1], out, at)
                at = _copy(data, start, stop, out, at)
                out[at] = _QUOTE
                at += 1
    label_at[spans.shape[1]] = at
    return at


@kernel
def write_points(
    vertices: FloatRows, first: int, marks: Bytes, marks_at: Ints, labels: Bytes, label_at: Indices, out: Mutable[Bytes]
) -> int:
    """Write rows of a point's number, label, northing, easting and height; return how many bytes, -1 for a long number.

    *marks* holds what comes before the number, behind it, behind the label, between numbers and at the end of the row.
    """
    at = as_index(0)
    for row in range(vertices.shape[0]):
        at = _copy(marks, marks_at[0], marks_at[1], out, at)
        at = write_whole(as_index(first + row), out, at)
        at = _copy(marks, marks_at[1], marks_at[2], out, at)
        at = _copy(labels, label_at[row], label_at[row + 1], out, at)
        at = _copy(marks, marks_at[2], marks_at[3], out, at)
        for k in range(3):
            at = write_decimal(vertices[row, 1 - k if k < 2 else 2], out, at)
            if at < 0:
                return -1
            last = 4 if k == 2 else 3
            at = _copy(marks, marks_at[last], marks_at[last + 1], out, at)
    return at


@kernel
def write_faces(triangles: IntRows, marks: Bytes, marks_at: Ints, out: Mutable[Bytes]) -> int:
    """Write rows of the three corners of a triangle, numbered from 1; return how many bytes."""
    at = as_index(0)
    for row in range(triangles.shape[0]):
        at = _copy(marks, marks_at[0], marks_at[1], out, at)
        for k in range(3):
            at = write_whole(as_index(triangles[row, k]) + 1, out, at)
            last = 2 if k == 2 else 1
            at = _copy(marks, marks_at[last], marks_at[last + 1], out, at)
    return at
