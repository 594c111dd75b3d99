#pragma once

#include "jovilux/rig/rig.h"
#include "jovilux/rig/table_reader.h"

#include <map>
#include <string>
#include <vector>

namespace jovilux {

/// Where an assembly moves its members to: about its own origin, evenly scaled and turned.
struct AssemblyPlacement {
  Transform transform;
  double scale = 1;  ///< of lengths
  bool even = true;  ///< the same along all axes, as lights need

  /// First `inner`, then this.
  AssemblyPlacement after(const AssemblyPlacement& inner) const {
    return {{transform.linear * inner.transform.linear, transform.point(inner.transform.offset)},
            scale * inner.scale,
            even && inner.even};
  }
};

/// What the [[assembly]] tables of a rig come to, nested ones resolved.
struct Assemblies {
  /// Of lights and objects by name: of what stands alone, and of patterns before an array places
  /// their copies.
  std::map<std::string, AssemblyPlacement> lights, objects;
  /// Of arrays by name: of all their copies, once they are placed.
  std::map<std::string, AssemblyPlacement> arrays;
};

/// Reads `list`, the [[assembly]] tables of `root`; says which members are not there, belong to two
/// assemblies or to themselves. `length`: meters of a bare length.
Assemblies read_assemblies(const DocumentNode& root, double length, Problems& problems);

/// Moves the lights, objects, arrays and assemblies that are written inside an assembly, as
/// [[assembly.light]] and so on, to the rig's own lists, and their addresses to the assembly's
/// `members`. A list that is none of tables stays where it is.
void lift_members(DocumentNode& root);

/// Replaces arrays whose pattern is an assembly by arrays of its members, ARRAY-MEMBER, with the
/// same path. Says where such an array has keys that its members cannot take.
void expand_assembly_arrays(DocumentNode& root, Problems& problems);

/// Moves a light that is read: its place, the way it shines, and its sizes, whose levels follow
/// from its output.
void move_light(const AssemblyPlacement& to, const Vec3d& up, LightSpec& light);

}  // namespace jovilux
