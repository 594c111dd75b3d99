"""Where the bricks of the orchid house stand: courses of a running bond, in three shapes."""

from noise import chance

LENGTH, HEIGHT, JOINT = 0.215, 0.065, 0.010


def courses(start, end, top, openings, seed):
    """Places (along, z) of bricks from start to end; openings: (from, to, up to)."""
    out, row, step = [], 0, LENGTH + JOINT
    while (row + 1) * (HEIGHT + JOINT) <= top + 1e-9:
        z = (row + 0.5) * (HEIGHT + JOINT)
        along = start + (0.5 if row % 2 == 0 else 1.0) * step
        while along + LENGTH / 2 <= end + 0.5 * step:
            inside = any(a < along < b and z < c for a, b, c in openings)
            if not inside:
                out.append((along + 0.004 * (chance(row, len(out), seed) - 0.5), z))
            along += step
        row += 1
    return out


def array(file, name, pattern, places):
    """One [[array]] over points along the pattern's own x axis or y axis."""
    file.write(f'[[array]]\nname = "{name}"\nof = "{pattern}"\n')
    file.write('along = { path = "points", points = [\n')
    line = ""
    for place in places:
        entry = "[%.5g, %.5g, %.5g], " % place
        if len(line) + len(entry) > 100:
            file.write(line.rstrip() + "\n")
            line = ""
        line += entry
    file.write(line.rstrip(", ") + "] }\n\n")


def pattern(file, wall, shape, place, turn):
    name = f"brick-{wall}-{shape}"
    file.write(f'[[object]]\nname = "{name}"\nmesh = "brick-{shape}.obj"\n'
               f'at = {place}\nrotate = [0, 0, {turn}]\nmaterial = "brick-{shape}"\n'
               'tags = ["wall"]\n\n')
    return name


def write_bricks(path):
    with open(path, "w", encoding="ascii") as file:
        file.write("# The bricks of the north wall and of the half-wall in the west, made by "
                   "make/make.py.\n\n")
        north = courses(-3.0, 3.0, 3.0, [(-2.62, -1.62, 2.13)], 1)
        west = courses(-2.0, 1.9, 0.9, [], 2)
        for wall, places, place, turn in (("north", north, [0, 1.944, 0], 0),
                                          ("west", west, [-2.944, 0, 0], 90)):
            for number, shape in enumerate("abc"):
                chosen = [p for i, p in enumerate(places)
                          if int(3 * chance(i, number * 0, 17)) == number]
                name = pattern(file, wall, shape, place, turn)
                points = [(a, 0, z) if wall == "north" else (0, a, z) for a, z in chosen]
                array(file, f"bricks-{wall}-{shape}", name, points)
