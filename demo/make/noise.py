"""Lattice noise for the demo's pictures and meshes: deterministic, without libraries."""

import math


def chance(*numbers):
    """A number in [0, 1) that depends on whole numbers alone: the integer hash of a xorshift."""
    h = 0x9E3779B9
    for n in numbers:
        h ^= (n & 0xFFFFFFFF) + 0x7F4A7C15 + ((h << 6) & 0xFFFFFFFF) + (h >> 2)
        h &= 0xFFFFFFFF
        h = (h ^ (h >> 16)) * 0x85EBCA6B & 0xFFFFFFFF
        h = (h ^ (h >> 13)) * 0xC2B2AE35 & 0xFFFFFFFF
        h ^= h >> 16
    return h / 2**32


def smooth(t):
    """Hermite's step of degree five: its first two derivatives are zero at 0 and 1."""
    return t * t * t * (t * (6 * t - 15) + 10)


def value(x, y, seed, period_x=0, period_y=0):
    """Value noise in [0, 1); a period above 0 makes it repeat along that axis."""
    x0, y0 = math.floor(x), math.floor(y)
    fx, fy = smooth(x - x0), smooth(y - y0)

    def corner(i, j):
        i = (x0 + i) % period_x if period_x else x0 + i
        j = (y0 + j) % period_y if period_y else y0 + j
        return chance(i, j, seed)

    below = corner(0, 0) * (1 - fx) + corner(1, 0) * fx
    above = corner(0, 1) * (1 - fx) + corner(1, 1) * fx
    return below * (1 - fy) + above * fy


def fractal(x, y, seed, octaves, period_x=0, period_y=0):
    """Octaves of value noise, each of half the size and half the height; in [0, 1)."""
    total, height, sum_of_heights = 0.0, 1.0, 0.0
    for i in range(octaves):
        total += height * value(x, y, seed + i, period_x, period_y)
        sum_of_heights += height
        x, y, height = 2 * x, 2 * y, height / 2
        period_x, period_y = 2 * period_x, 2 * period_y
    return total / sum_of_heights
