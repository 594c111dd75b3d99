"""The pictures of the orchid house: wood, tiles, puddles, condensation."""

import math

from files import write_png
from noise import chance, fractal, smooth, value


def mix(a, b, t):
    return tuple(x * (1 - t) + y * t for x, y in zip(a, b))


def step(a, b, x):
    return smooth(max(0.0, min(1.0, (x - a) / (b - a))))


def cedar(path):
    """Four planks along the picture, each cut from rings round an axis of its own."""
    width, height, planks = 640, 200, 4
    dark, light = (0.36, 0.21, 0.125), (0.66, 0.44, 0.28)

    def pixel(x, y):
        plank = y * planks // height
        across = (y / height * planks) % 1
        gap = min(across, 1 - across) < 0.018
        u = x / width * 9 + 31 * plank
        bend = 0.5 * value(u / 3, plank, 5) + 0.12 * value(u, across * 2 + plank, 6)
        distance = math.hypot(across - 0.5 - 1.6 * chance(plank, 7) + bend, 0.35)
        ring = (distance * (8 + 3 * chance(plank, 8)) + 0.15 * value(u * 2, across * 9, 9)) % 1
        late = step(0.25, 0.92, ring) * (1 - step(0.94, 1.0, ring))
        fiber = value(u * 9, across * 60 + 90 * plank, 10)
        tone = 0.82 + 0.3 * chance(plank, 11) + 0.14 * (fiber - 0.5)
        if gap:
            return (0.10, 0.07, 0.05)
        return tuple(min(1.0, v * tone) for v in mix(light, dark, 0.75 * late))

    write_png(path, width, height, pixel)


def tiles(path):
    """Two by two clay tiles with joints; the picture repeats over the floor."""
    size = 256
    joint = (0.235, 0.225, 0.21)
    tones = [(0.44, 0.39, 0.35), (0.40, 0.36, 0.335), (0.47, 0.41, 0.36), (0.42, 0.385, 0.36)]

    def pixel(x, y):
        u, v = 2 * x / size, 2 * y / size
        tile = 2 * int(v) + int(u)
        edge = min(u % 1, 1 - u % 1, v % 1, 1 - v % 1)
        wear = fractal(8 * u, 8 * v, 21 + tile, 4, 16, 16)
        color = tuple(c * (0.86 + 0.28 * wear) for c in tones[tile])
        return mix(joint, color, step(0.008, 0.022, edge + 0.006 * (wear - 0.5)))

    write_png(path, size, size, pixel)


def puddles(path):
    """White where water stands on the floor: around the drain and by the bench."""
    width, height = 360, 240
    pools = [(0.30, 0.30, 0.15), (0.42, 0.24, 0.11), (0.70, 0.22, 0.13), (0.17, 0.58, 0.08),
             (0.57, 0.13, 0.08)]

    def pixel(x, y):
        u, v = (x + 0.5) / width, 1 - (y + 0.5) / height
        near = max(1 - math.hypot((u - a) * 1.5, v - b) / (1.9 * r) for a, b, r in pools)
        return (step(0.47, 0.50, 0.55 * near + 0.42 * fractal(9 * u, 6 * v, 31, 4)),)

    write_png(path, width, height, pixel)


def condensation(path):
    """White where a pane is fogged by drops: all of it low down, ever less above."""
    width, height, cells = 448, 448, 96

    def pixel(x, y):
        u, v = (x + 0.5) / width, 1 - (y + 0.5) / height
        fog = 0.26 - 1.25 * v + 0.5 * fractal(7 * u, 5 * v, 41, 3)
        drop = 0.0
        i0, j0 = int(u * cells), int(v * cells)
        for i in (i0 - 1, i0, i0 + 1):
            for j in (j0 - 1, j0, j0 + 1):
                a, b = (i + chance(i, j, 42)) / cells, (j + chance(i, j, 43)) / cells
                radius = 0.5 / cells * chance(i, j, 44) ** 2
                if fog + 0.4 * chance(i, j, 45) > 0.36:
                    drop = max(drop, 1 - math.hypot(u - a, v - b) / radius if radius else 0.0)
        track = value(26 * u, 0, 46)
        run = track > 0.86 and v < 0.2 + 0.5 * chance(int(26 * u), 47)
        return (0.0 if run else max(step(0.30, 0.52, fog), step(0.0, 0.25, drop)),)

    write_png(path, width, height, pixel)
