"""The meshes of the orchid house: ferns, seedlings, bricks, a hedge."""

import math

from files import Mesh
from noise import chance, fractal


def leaf(mesh, base, along, side, length, width, fold=0.25):
    """A pointed leaf of four triangles that is folded along its middle."""
    up = (along[1] * side[2] - along[2] * side[1], along[2] * side[0] - along[0] * side[2],
          along[0] * side[1] - along[1] * side[0])

    def at(t, s, lift):
        return [base[k] + length * t * along[k] + width * s * side[k] + width * lift * up[k]
                for k in range(3)]

    a, tip = mesh.point(at(0, 0, 0)), mesh.point(at(1, 0, 0))
    middle = mesh.point(at(0.45, 0, 0))
    left, right = mesh.point(at(0.4, 0.5, fold)), mesh.point(at(0.4, -0.5, fold))
    mesh.faces += [(a, middle, left), (middle, tip, left), (a, right, middle), (middle, right, tip)]


def fern(path):
    """Fronds that rise from the middle and hang over; leaflets in pairs, shorter to the tip."""
    mesh, fronds = Mesh(), 26
    for f in range(fronds):
        turn = 2.399963 * f + 0.5 * chance(f, 1)  # the golden angle: no two fronds in one plane
        rise = 0.35 + 0.75 * chance(f, 2) * (1 - f / fronds) + 0.25
        length = 0.24 + 0.12 * chance(f, 3)
        out = (math.cos(turn), math.sin(turn), 0.0)
        side = (-math.sin(turn), math.cos(turn), 0.0)
        pairs = 17

        def spine(t):
            r, z = length * (0.95 * t), length * (rise * t - (0.75 + rise) * t * t)
            return [out[0] * r, out[1] * r, z]

        rows = []
        for i in range(pairs + 1):
            p = spine(i / pairs)
            w = 0.0014 * (1 - 0.7 * i / pairs)
            rows.append([[p[k] + s * w * side[k] for k in range(3)] for s in (-1, 1)])
        mesh.grid(rows)
        for i in range(1, pairs + 1):
            t = i / pairs
            p, q = spine(t), spine(min(1.0, t + 0.02))
            d = [q[k] - p[k] for k in range(3)]
            n = math.sqrt(sum(v * v for v in d)) or 1.0
            d = [v / n for v in d]
            size = 0.062 * math.sin(math.pi * min(1.0, 0.12 + 0.88 * t)) ** 0.8 + 0.006
            for s in (-1, 1):
                along = [0.36 * d[k] + 0.93 * s * side[k] for k in range(3)]
                along[2] -= 0.18 + 0.1 * chance(f, i, s + 5)
                m = math.sqrt(sum(v * v for v in along))
                leaf(mesh, p, [v / m for v in along], d, size, 0.0125)
    mesh.write(path, "A fern of 26 fronds. Our own; meters, z up.", False)


def seedling(path):
    """A stem with two seed leaves and two true leaves."""
    mesh = Mesh()
    ring = [(math.cos(a), math.sin(a)) for a in (0, 2.094, 4.189, 6.283)]
    mesh.grid([[[0.0012 * x, 0.0012 * y, z] for x, y in ring] for z in (0.0, 0.025, 0.05)])
    for turn, z, length, width, rise in ((0.3, 0.034, 0.017, 0.011, 0.35),
                                         (3.45, 0.034, 0.016, 0.010, 0.3),
                                         (1.8, 0.05, 0.026, 0.012, 0.7),
                                         (4.9, 0.05, 0.022, 0.011, 0.8)):
        flat = math.cos(rise)
        along = (flat * math.cos(turn), flat * math.sin(turn), math.sin(rise))
        leaf(mesh, [0, 0, z], along, (-math.sin(turn), math.cos(turn), 0), length, width)
    mesh.write(path, "A seedling with four leaves. Our own; meters, z up.", False)


def brick(path, seed):
    """A brick of 215 x 100 x 65 mm, worn: its long face a relief, its edges round."""
    mesh, half = Mesh(), (0.1075, 0.05, 0.0325)
    columns, rows = 10, 5
    face = []
    for j in range(rows + 1):
        row = []
        for i in range(columns + 1):
            u, v = i / columns, j / rows
            edge = min(u * 3.3, (1 - u) * 3.3, v, 1 - v)
            worn = 0.006 * max(0.0, 1 - edge / 0.16) ** 2
            relief = 0.0035 * fractal(4 * u, 2 * v, seed, 3)
            shrink = 1 - 0.016 * chance(i if j in (0, rows) else 0, j, seed)
            row.append([half[0] * (2 * u - 1) * shrink, -half[1] + worn + relief,
                        half[2] * (2 * v - 1) * (1 - 0.02 * chance(i, seed + 1))])
        face.append(row)
    mesh.grid(face)
    # The sides go back straight from the rim of the relief.
    rim = (face[0] + [r[-1] for r in face[1:]] + face[-1][-2::-1] + [r[0] for r in face[-2::-1]])
    mesh.grid([[[p[0], half[1], p[2]] for p in rim], rim])
    mesh.write(path, "A worn brick, open at the back. Our own; meters, z up.", True)


def hedge(path):
    """What stands against the sky: a clipped hedge with some trees, 24 m long, seen from one side.

    A front of leaves, each a small quadrilateral, before a sheet that lets no sky through.
    """
    mesh, count = Mesh(), 240
    heights, low, high = [], [], []
    for i in range(count + 1):
        u = i / count
        height = 1.55 + 0.12 * fractal(20 * u, 0, 5, 2)
        for tree in range(5):
            middle = (tree + 0.2 + 0.6 * chance(tree, 7)) / 5
            across = abs(u - middle) * 24 / (0.9 + 0.9 * chance(tree, 8))
            crown = (2.2 + 1.8 * chance(tree, 9)) * max(0.0, 1 - across * across) ** 0.5
            height = max(height, 0.6 + crown * (0.9 + 0.25 * fractal(70 * u, 0, 10, 2)))
        heights.append(height)
        low.append([24 * u - 12, 0.0, 0.0])
        high.append([24 * u - 12, 0.0, height - 0.05])
    mesh.grid([low, high])
    for i in range(900):
        u = chance(i, 11)
        top = heights[int(u * count)]
        x, z = 24 * u - 12, top - 0.9 * chance(i, 12) ** 3 + 0.04
        turn, size = 6.283 * chance(i, 13), 0.05 + 0.07 * chance(i, 14)
        leaf(mesh, [x, -0.1 - 0.15 * chance(i, 15), z], (math.cos(turn), 0, math.sin(turn)),
             (-math.sin(turn), 0, math.cos(turn)), size, 0.7 * size, 0)
    mesh.write(path, "A hedge with trees. Our own; meters, z up.", False)
