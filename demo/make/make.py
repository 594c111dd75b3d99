#!/usr/bin/env python3
"""Makes the pictures, meshes and brick courses of the orchid house, into the folder above.

Run it after a change here; what it makes is committed, so that building needs no Python. The same
bytes come out each time.
"""

import os

import plants
import textures
import walls

os.chdir(os.path.join(os.path.dirname(os.path.abspath(__file__)), ".."))
textures.cedar("cedar.png")
textures.tiles("tiles.png")
textures.puddles("puddles.png")
textures.condensation("condensation.png")
plants.fern("fern.obj")
plants.seedling("seedling.obj")
plants.hedge("hedge.obj")
for number, shape in enumerate("abc"):
    plants.brick(f"brick-{shape}.obj", 100 + 7 * number)
walls.write_bricks("bricks.toml")
