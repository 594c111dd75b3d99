"""Writers of the two formats that the demo's parts are in: PNG and OBJ."""

import struct
import zlib


def write_png(path, width, height, pixel):
    """pixel(x, y), y down, gives a tuple of one (gray) or three (sRGB) values in [0, 1]."""
    channels = len(pixel(0, 0))
    rows = bytearray()
    for y in range(height):
        rows.append(0)  # no filter
        for x in range(width):
            rows += bytes(max(0, min(255, round(255 * v))) for v in pixel(x, y))

    def chunk(kind, data):
        body = kind + data
        return struct.pack(">I", len(data)) + body + struct.pack(">I", zlib.crc32(body))

    header = struct.pack(">IIBBBBB", width, height, 8, 0 if channels == 1 else 2, 0, 0, 0)
    with open(path, "wb") as file:
        file.write(b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", header)
                   + chunk(b"IDAT", zlib.compress(bytes(rows), 9)) + chunk(b"IEND", b""))


class Mesh:
    """Triangles with shared corners, written with normals where they are smooth."""

    def __init__(self):
        self.points, self.faces = [], []

    def point(self, p):
        self.points.append(p)
        return len(self.points)

    def grid(self, rows):
        """A sheet of quadrilaterals through rows of points, each row of the same length."""
        first = [[self.point(p) for p in row] for row in rows]
        for a, b in zip(first, first[1:]):
            for i in range(len(a) - 1):
                self.faces.append((a[i], a[i + 1], b[i + 1]))
                self.faces.append((a[i], b[i + 1], b[i]))

    def normals(self):
        sums = [[0.0, 0.0, 0.0] for _ in self.points]
        for face in self.faces:
            a, b, c = (self.points[i - 1] for i in face)
            u = [b[k] - a[k] for k in range(3)]
            v = [c[k] - a[k] for k in range(3)]
            n = (u[1] * v[2] - u[2] * v[1], u[2] * v[0] - u[0] * v[2], u[0] * v[1] - u[1] * v[0])
            for i in face:
                for k in range(3):
                    sums[i - 1][k] += n[k]
        out = []
        for s in sums:
            length = sum(v * v for v in s) ** 0.5 or 1.0
            out.append([v / length for v in s])
        return out

    def write(self, path, comment, smooth):
        with open(path, "w", encoding="ascii") as file:
            file.write(f"# {comment}\n")
            for p in self.points:
                file.write("v %.4g %.4g %.4g\n" % tuple(p))
            if smooth:
                for n in self.normals():
                    file.write("vn %.2f %.2f %.2f\n" % tuple(n))
            for face in self.faces:
                corner = (lambda i: f"{i}//{i}") if smooth else str
                file.write("f " + " ".join(corner(i) for i in face) + "\n")
