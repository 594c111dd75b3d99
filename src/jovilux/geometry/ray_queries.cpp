// Ray traversal, compiled once for each set of vector instructions and chosen at run time.
#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "jovilux/geometry/ray_queries.cpp"
#define HWY_DISABLED_TARGETS (HWY_SSSE3 | HWY_AVX3_DL)
#include "jovilux/geometry/world.h"

#include <cstring>

#include <hwy/foreach_target.h>
#include <hwy/highway.h>

HWY_BEFORE_NAMESPACE();
namespace jovilux::HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

// A ray prepared for boxes and triangles.
struct PreparedRay {
  float origin[3], inverse[3];
  // The origin over the direction, for the near and the far sides of boxes: moved out by 4 u of it
  // (u = 2^-24), as it is rounded, as the sum here is, and as a plane over the direction is where
  // multiply and subtract are not fused.
  float near_shift[3], far_shift[3];
  int near[3];       // the box side that the ray meets first, by axis
  int kx, ky, kz;    // axes with the direction's largest part last
  float sx, sy, sz;  // shear that makes the direction (0, 0, 1)

  explicit PreparedRay(const Ray& ray) {
    float largest = -1;
    kz = 0;
    for (int a = 0; a < 3; ++a) {
      origin[a] = ray.origin[a];
      const float d = ray.direction[a];
      // A finite stand-in for 1 / 0 keeps 0 * inf out of the slabs.
      inverse[a] = std::abs(d) > 1e-18f ? 1.0f / d : std::copysign(1e18f, d);
      const float shift = origin[a] * inverse[a], rounding = std::abs(shift) * 0x1p-22f;
      near_shift[a] = shift + rounding;
      far_shift[a] = shift - rounding;
      near[a] = d < 0 || (d == 0 && std::signbit(d)) ? a + 3 : a;
      if (std::abs(d) > largest) {
        largest = std::abs(d);
        kz = a;
      }
    }
    kx = (kz + 1) % 3;
    ky = (kz + 2) % 3;
    if (ray.direction[kz] < 0) {
      std::swap(kx, ky);  // keeps the winding
    }
    sx = ray.direction[kx] / ray.direction[kz];
    sy = ray.direction[ky] / ray.direction[kz];
    sz = 1.0f / ray.direction[kz];
  }
};

// Entry distances of a node's boxes into `t`; a bit for each that the ray meets before t_max.
HWY_INLINE unsigned meet_boxes(const BvhNode& node,
                               const PreparedRay& ray,
                               float t_max,
                               float* HWY_RESTRICT t) {
  const hn::CappedTag<float, 8> d;
  const std::size_t lanes = hn::Lanes(d);
  unsigned bits = 0;
  for (std::size_t i = 0; i < 8; i += lanes) {
    auto enter = hn::Zero(d), leave = hn::Set(d, t_max);
    for (int a = 0; a < 3; ++a) {
      const auto inverse = hn::Set(d, ray.inverse[a]);
      const int near = ray.near[a], far = near < 3 ? near + 3 : near - 3;
      const auto t0 =
          hn::MulSub(hn::LoadU(d, node.box[near] + i), inverse, hn::Set(d, ray.near_shift[a]));
      const auto t1 =
          hn::MulSub(hn::LoadU(d, node.box[far] + i), inverse, hn::Set(d, ray.far_shift[a]));
      enter = hn::Max(t0, enter);
      leave = hn::Min(t1, leave);
    }
    // The far side is moved out by the rounding of three operations, so that no box is missed along
    // its edge.
    // Source: T. Ize, "Robust BVH Ray Traversal", JCGT 2(2), 2013.
    leave = hn::Mul(leave, hn::Set(d, 1.0f + 4e-7f));
    hn::StoreU(enter, d, t + i);
    std::uint8_t mask[8] = {};
    hn::StoreMaskBits(d, hn::Le(enter, leave), mask);
    bits |= static_cast<unsigned>(mask[0] & ((1U << lanes) - 1)) << i;
  }
  return bits;
}

// A ray on the grid of compact nodes, for one of the eight octants of directions (bit a: it goes
// down axis a), so that near and far planes are told apart before the program runs. A plane's
// number q comes as the float 2^23 + q, S = step / direction: it is met at (2^23 + q) S - (2^23 S +
// shift). Sums of that size are rounded by up to half of |S|: planes are moved out by one |S|, by
// two where multiply and subtract are not fused, beyond the 4 u of the shift.
template <int kOctant>
struct GridRay {
  float scale[3], near_shift[3], far_shift[3];

  GridRay(const PreparedRay& ray, const BoxGrid& grid) {
    constexpr bool kFused = HWY_TARGET == HWY_AVX2 || HWY_TARGET == HWY_AVX3;
    constexpr float kRounding = kFused ? 1.05f : 2.05f;
    for (std::size_t a = 0; a < 3; ++a) {
      scale[a] = ray.inverse[a] * grid.step[a];
      const float shift = (ray.origin[a] - grid.lo[a]) * ray.inverse[a], base = scale[a] * 0x1p23f;
      const float rounding = std::abs(shift) * 0x1p-21f + kRounding * std::abs(scale[a]);
      near_shift[a] = shift + base + rounding;
      far_shift[a] = shift + base - rounding;
    }
  }
};

#if HWY_TARGET == HWY_SCALAR
template <int kOctant>
HWY_INLINE unsigned meet_boxes(const CompactNode& node,
                               const GridRay<kOctant>& ray,
                               float t_max,
                               float* HWY_RESTRICT t) {
  unsigned bits = 0;
  for (std::size_t i = 0; i < 8; ++i) {
    float leave = t_max;
    t[i] = 0;
    for (std::size_t a = 0; a < 3; ++a) {
      const bool down = (kOctant >> a & 1) != 0;
      const auto at = [&](std::size_t place) { return 0x1p23f + node.planes[a][place]; };
      t[i] = std::max(t[i],
                      at(down ? CompactNode::upper(i) : CompactNode::lower(i)) * ray.scale[a] -
                          ray.near_shift[a]);
      leave = std::min(leave,
                       at(down ? CompactNode::lower(i) : CompactNode::upper(i)) * ray.scale[a] -
                           ray.far_shift[a]);
    }
    bits |= t[i] <= leave ? 1U << i : 0;
  }
  return bits;
}
#else
template <int kOctant>
HWY_INLINE unsigned meet_boxes(const CompactNode& node,
                               const GridRay<kOctant>& ray,
                               float t_max,
                               float* HWY_RESTRICT t) {
  const hn::CappedTag<float, 8> d;
  const hn::Repartition<std::uint16_t, decltype(d)> d_plane;
  const std::size_t lanes = hn::Lanes(d);
  const auto exponent = hn::Set(d_plane, 0x4b00);
  unsigned bits = 0;
  for (std::size_t i = 0; i < 8; i += lanes) {
    auto enter = hn::Zero(d), leave = hn::Set(d, t_max);
    for (int a = 0; a < 3; ++a) {
      const bool down = (kOctant >> a & 1) != 0;
      const auto planes = hn::LoadU(d_plane, node.planes[a] + 2 * i);
      const auto lower = hn::BitCast(d, hn::InterleaveLower(d_plane, planes, exponent)),
                 upper = hn::BitCast(d, hn::InterleaveUpper(d_plane, planes, exponent));
      const auto scale = hn::Set(d, ray.scale[a]);
      enter =
          hn::Max(hn::MulSub(down ? upper : lower, scale, hn::Set(d, ray.near_shift[a])), enter);
      leave = hn::Min(hn::MulSub(down ? lower : upper, scale, hn::Set(d, ray.far_shift[a])), leave);
    }
    hn::StoreU(enter, d, t + i);
    std::uint8_t mask[8] = {};
    hn::StoreMaskBits(d, hn::Le(enter, leave), mask);
    bits |= static_cast<unsigned>(mask[0] & ((1U << lanes) - 1)) << i;
  }
  return bits;
}
#endif

// Four triangles at once. Source: S. Woop, C. Benthin, I. Wald, "Watertight Ray/Triangle
// Intersection", JCGT 2(1), 2013.
// The edge functions of a shared edge are exact negatives of each other: no multiply-add may be
// fused here.
// Returns a bit for each triangle met in (0, t_max); t and the corner weights go to the arrays.
struct PacketHits {
  HWY_ALIGN float t[4], v[4], w[4];
};
HWY_INLINE unsigned meet_triangles(const TrianglePacket& packet,
                                   const PreparedRay& ray,
                                   float t_max,
                                   PacketHits& out) {
  const hn::CappedTag<float, 4> d;
  const std::size_t lanes = hn::Lanes(d);
  unsigned bits = 0;
  const auto sx = hn::Set(d, ray.sx), sy = hn::Set(d, ray.sy);
  const auto ox = hn::Set(d, ray.origin[ray.kx]), oy = hn::Set(d, ray.origin[ray.ky]),
             oz = hn::Set(d, ray.origin[ray.kz]);
  for (std::size_t i = 0; i < 4; i += lanes) {
    const auto at = [&](int corner, int axis) {
      return hn::LoadU(d, packet.corner[corner][axis] + i);
    };
    const auto az = hn::Sub(at(0, ray.kz), oz), bz = hn::Sub(at(1, ray.kz), oz),
               cz = hn::Sub(at(2, ray.kz), oz);
    const auto ax = hn::Sub(hn::Sub(at(0, ray.kx), ox), hn::Mul(sx, az));
    const auto ay = hn::Sub(hn::Sub(at(0, ray.ky), oy), hn::Mul(sy, az));
    const auto bx = hn::Sub(hn::Sub(at(1, ray.kx), ox), hn::Mul(sx, bz));
    const auto by = hn::Sub(hn::Sub(at(1, ray.ky), oy), hn::Mul(sy, bz));
    const auto cx = hn::Sub(hn::Sub(at(2, ray.kx), ox), hn::Mul(sx, cz));
    const auto cy = hn::Sub(hn::Sub(at(2, ray.ky), oy), hn::Mul(sy, cz));
    const auto u = hn::Sub(hn::Mul(cx, by), hn::Mul(cy, bx));
    const auto v = hn::Sub(hn::Mul(ax, cy), hn::Mul(ay, cx));
    const auto w = hn::Sub(hn::Mul(bx, ay), hn::Mul(by, ax));
    const auto zero = hn::Zero(d);
    const auto inside = hn::Or(hn::And(hn::And(hn::Ge(u, zero), hn::Ge(v, zero)), hn::Ge(w, zero)),
                               hn::And(hn::And(hn::Le(u, zero), hn::Le(v, zero)), hn::Le(w, zero)));
    const auto det = hn::Add(hn::Add(u, v), w);
    const auto inverse = hn::Div(hn::Set(d, 1.0f), det);
    const auto sz = hn::Set(d, ray.sz);
    const auto t = hn::Mul(
        hn::Mul(hn::Add(hn::Add(hn::Mul(u, az), hn::Mul(v, bz)), hn::Mul(w, cz)), sz), inverse);
    const auto hit = hn::And(hn::And(inside, hn::Ne(det, zero)),
                             hn::And(hn::Gt(t, zero), hn::Lt(t, hn::Set(d, t_max))));
    std::uint8_t mask[8] = {};
    hn::StoreMaskBits(d, hit, mask);
    const unsigned some = mask[0] & ((1U << lanes) - 1);
    bits |= some << i;
    if (some != 0) {
      hn::StoreU(t, d, out.t + i);
      hn::StoreU(hn::Mul(v, inverse), d, out.v + i);
      hn::StoreU(hn::Mul(w, inverse), d, out.w + i);
    }
  }
  return bits;
}

// Visits the leaves that the ray meets, nearest first; `leaf(first, count)` may lower t_max and
// returns true to stop.
// What waits on the stack is a number: the bits of its distance, which order as the distances do,
// above those of its child.
template <class Node, class NodeRay, class Leaf>
HWY_INLINE bool visit(const Node* nodes, const NodeRay& ray, const float& t_max, const Leaf& leaf) {
  std::uint64_t stack[7 * kMaxBvhDepth + 8];
  int top = 0;
  std::uint32_t current = 0;
  // The nearer of two to the first place, without a branch.
  const auto order = [](std::uint64_t& a, std::uint64_t& b) {
    const std::uint64_t less = a < b ? a : b, more = a < b ? b : a;
    a = less;
    b = more;
  };
  for (;;) {
    if (BvhNode::is_leaf(current)) {
      if (leaf(BvhNode::leaf_first(current), BvhNode::leaf_count(current))) {
        return true;
      }
    } else {
      const Node& node = nodes[current];
      HWY_ALIGN float t[8];
      unsigned bits = meet_boxes(node, ray, t_max, t);
      if (bits != 0) {
        const auto next = [&] {
          const std::size_t i = hwy::Num0BitsBelowLS1Bit_Nonzero32(bits);
          bits &= bits - 1;
          std::uint32_t key;
          std::memcpy(&key, t + i, 4);
          return static_cast<std::uint64_t>(key) << 32 | node.child[i];
        };
        std::uint64_t a = next();
        if (bits == 0) {
          current = static_cast<std::uint32_t>(a);
          continue;
        }
        std::uint64_t b = next();
        order(a, b);
        if (bits == 0) {
          stack[top++] = b;
          current = static_cast<std::uint32_t>(a);
          continue;
        }
        std::uint64_t c = next();
        order(b, c);
        order(a, b);
        if (bits == 0) {
          stack[top++] = c;
          stack[top++] = b;
          current = static_cast<std::uint32_t>(a);
          continue;
        }
        // The stack stays sorted, farthest first: an insertion among at most seven.
        const int base = top;
        stack[top++] = c;
        stack[top++] = b;
        // NOLINTNEXTLINE(bugprone-infinite-loop): next() takes a bit
        do {
          std::uint64_t e = next();
          order(a, e);
          int k = top++;
          for (; k > base && stack[k - 1] < e; --k) {
            stack[k] = stack[k - 1];
          }
          stack[k] = e;
        } while (bits != 0);
        current = static_cast<std::uint32_t>(a);
        continue;
      }
    }
    float waits;
    do {
      if (top == 0) {
        return false;
      }
      --top;
      const auto key = static_cast<std::uint32_t>(stack[top] >> 32);
      std::memcpy(&waits, &key, 4);
    } while (waits > t_max);
    current = static_cast<std::uint32_t>(stack[top]);
  }
}

// Visits the leaves that the ray meets in any order, those of a node before its inner children,
// until `leaf` returns true:
// nothing is sorted, and no distance is kept.
template <class Node, class NodeRay, class Leaf>
HWY_INLINE bool visit_any(const Node* nodes, const NodeRay& ray, float t_max, const Leaf& leaf) {
  std::uint32_t stack[7 * kMaxBvhDepth + 8];
  int top = 0;
  stack[top++] = 0;
  while (top > 0) {
    const std::uint32_t current = stack[--top];
    if (BvhNode::is_leaf(current)) {
      if (leaf(BvhNode::leaf_first(current), BvhNode::leaf_count(current))) {
        return true;
      }
      continue;
    }
    const Node& node = nodes[current];
    HWY_ALIGN float t[8];
    for (unsigned bits = meet_boxes(node, ray, t_max, t); bits != 0; bits &= bits - 1) {
      const std::uint32_t child = node.child[hwy::Num0BitsBelowLS1Bit_Nonzero32(bits)];
      if (!BvhNode::is_leaf(child)) {
        stack[top++] = child;
      } else if (leaf(BvhNode::leaf_first(child), BvhNode::leaf_count(child))) {
        return true;
      }
    }
  }
  return false;
}

// The distance to an analytic shape or a solid before t_max; negative where there is none. In
// double precision: roots of quadratics and quartics lose half of their digits.
double meet_shape(const WorldQueries& world, std::uint32_t index, const Ray& ray, float t_max) {
  const Vec3d origin = ray.origin.cast<double>(), direction = ray.direction.cast<double>();
  if (index < world.shape_count) {
    const PlacedShape& placed = world.shapes[index];
    if (placed.shape.is_flat()) {  // most rays are told by the distance to its plane alone
      const double t = -(placed.to_local.row(2, origin) + placed.to_local.offset.z()) /
                       placed.to_local.row(2, direction);
      if (!(t > 0 && t < static_cast<double>(t_max))) {
        return -1;
      }
      if (placed.shape.kind == ShapeKind::kPlane) {
        return t;
      }
    }
    return intersect(placed.shape,
                     placed.to_local.point(origin),
                     placed.to_local.vector(direction),
                     0.0,
                     static_cast<double>(t_max));
  }
  const PlacedSolid& placed = world.solids[index - world.shape_count];
  return placed.solid->intersect(placed.to_local.point(origin),
                                 placed.to_local.vector(direction),
                                 0.0,
                                 static_cast<double>(t_max),
                                 placed.march);
}

// The nearest triangle of a set before hit.t, which becomes the hit.
template <class Node, class NodeRay>
HWY_INLINE void closest_of(const Node* nodes,
                           const NodeRay& node_ray,
                           const TriangleSet& set,
                           const PreparedRay& ray,
                           std::uint32_t copy,
                           Hit& hit) {
  std::uint32_t triangle = kNoIndex;
  const TrianglePacket* packets = set.packets();
  visit(nodes, node_ray, hit.t, [&](std::uint32_t first, std::uint32_t count) {
    PacketHits found;
    for (std::uint32_t p = first; p < first + count; ++p) {
      unsigned bits = meet_triangles(packets[p], ray, hit.t, found);
      while (bits != 0) {
        const auto i = hwy::Num0BitsBelowLS1Bit_Nonzero32(bits);
        bits &= bits - 1;
        if (found.t[i] < hit.t) {
          hit.t = found.t[i];
          triangle = packets[p].id[i];
          hit.u = found.v[i];
          hit.v = found.w[i];
        }
      }
    }
    return false;
  });
  if (triangle != kNoIndex) {
    hit.triangle = triangle;
    hit.copy = copy;
    hit.shape = kNoIndex;
  }
}

template <class Node, class NodeRay>
HWY_INLINE bool any_of(const Node* nodes,
                       const NodeRay& node_ray,
                       const TriangleSet& set,
                       const PreparedRay& ray,
                       float t_max) {
  const TrianglePacket* packets = set.packets();
  return visit_any(nodes, node_ray, t_max, [&](std::uint32_t first, std::uint32_t count) {
    PacketHits found;
    for (std::uint32_t p = first; p < first + count; ++p) {
      if (meet_triangles(packets[p], ray, t_max, found) != 0) {
        return true;
      }
    }
    return false;
  });
}

// Out of line: each has a stack of its own.
template <int kOctant>
HWY_NOINLINE void closest_in_octant(const TriangleSet& set,
                                    const PreparedRay& ray,
                                    std::uint32_t copy,
                                    Hit& hit) {
  closest_of(set.compact_nodes(), GridRay<kOctant>(ray, set.grid()), set, ray, copy, hit);
}
template <int kOctant>
HWY_NOINLINE bool any_in_octant(const TriangleSet& set, const PreparedRay& ray, float t_max) {
  return any_of(set.compact_nodes(), GridRay<kOctant>(ray, set.grid()), set, ray, t_max);
}
HWY_NOINLINE void closest_in_full(const TriangleSet& set,
                                  const PreparedRay& ray,
                                  std::uint32_t copy,
                                  Hit& hit) {
  closest_of(set.nodes(), ray, set, ray, copy, hit);
}
HWY_NOINLINE bool any_in_full(const TriangleSet& set, const PreparedRay& ray, float t_max) {
  return any_of(set.nodes(), ray, set, ray, t_max);
}

// The octant of a ray's direction; 8 without compact nodes, 9 without any.
HWY_INLINE int way_through(const TriangleSet& set, const PreparedRay& ray) {
  if (set.compact_nodes() == nullptr) {
    return set.nodes() != nullptr ? 8 : 9;
  }
  return (ray.near[0] >= 3 ? 1 : 0) | (ray.near[1] >= 3 ? 2 : 0) | (ray.near[2] >= 3 ? 4 : 0);
}
HWY_INLINE void closest_triangle(const TriangleSet& set,
                                 const PreparedRay& ray,
                                 std::uint32_t copy,
                                 Hit& hit) {
  switch (way_through(set, ray)) {
    case 0:
      return closest_in_octant<0>(set, ray, copy, hit);
    case 1:
      return closest_in_octant<1>(set, ray, copy, hit);
    case 2:
      return closest_in_octant<2>(set, ray, copy, hit);
    case 3:
      return closest_in_octant<3>(set, ray, copy, hit);
    case 4:
      return closest_in_octant<4>(set, ray, copy, hit);
    case 5:
      return closest_in_octant<5>(set, ray, copy, hit);
    case 6:
      return closest_in_octant<6>(set, ray, copy, hit);
    case 7:
      return closest_in_octant<7>(set, ray, copy, hit);
    case 8:
      return closest_in_full(set, ray, copy, hit);
    default:
      return;
  }
}
HWY_INLINE bool any_triangle(const TriangleSet& set, const PreparedRay& ray, float t_max) {
  switch (way_through(set, ray)) {
    case 0:
      return any_in_octant<0>(set, ray, t_max);
    case 1:
      return any_in_octant<1>(set, ray, t_max);
    case 2:
      return any_in_octant<2>(set, ray, t_max);
    case 3:
      return any_in_octant<3>(set, ray, t_max);
    case 4:
      return any_in_octant<4>(set, ray, t_max);
    case 5:
      return any_in_octant<5>(set, ray, t_max);
    case 6:
      return any_in_octant<6>(set, ray, t_max);
    case 7:
      return any_in_octant<7>(set, ray, t_max);
    case 8:
      return any_in_full(set, ray, t_max);
    default:
      return false;
  }
}

// A ray in a copy's own space; distances along it stay what they are.
Ray ray_in(const PlacedTriangles& copy, const Ray& ray) {
  return {Vec3(copy.to_local.point(ray.origin.cast<double>()).cast<float>()),
          Vec3(copy.to_local.vector(ray.direction.cast<double>()).cast<float>()),
          ray.t_max};
}

void closest_in_copy(const PlacedTriangles& copy, std::uint32_t index, const Ray& ray, Hit& hit) {
  closest_triangle(*copy.triangles, PreparedRay(ray_in(copy, ray)), index, hit);
}
bool blocked_by_copy(const PlacedTriangles& copy, const Ray& ray) {
  return any_triangle(*copy.triangles, PreparedRay(ray_in(copy, ray)), ray.t_max);
}

// Shapes first, then triangles: the nearest hit so far cuts what is still visited.
Hit Closest(const WorldQueries& world, const Ray& ray) {
  const PreparedRay prepared(ray);
  const auto first_copy = static_cast<std::uint32_t>(world.shape_count + world.solid_count);
  Hit hit;
  hit.t = ray.t_max;
  const auto offer = [&](std::uint32_t index) {
    if (index >= first_copy) {
      closest_in_copy(world.copies[index - first_copy], index - first_copy, ray, hit);
      return;
    }
    const double t = meet_shape(world, index, ray, hit.t);
    if (t > 0) {
      hit.t = static_cast<float>(t);
      hit.shape = index;
      hit.triangle = hit.copy = kNoIndex;
    }
  };
  for (std::size_t i = 0; i < world.endless_count; ++i) {
    offer(world.endless[i]);
  }
  if (world.shape_nodes != nullptr) {
    visit(world.shape_nodes, prepared, hit.t, [&](std::uint32_t first, std::uint32_t count) {
      for (std::uint32_t i = first; i < first + count; ++i) {
        offer(world.shape_order[i]);
      }
      return false;
    });
  }
  closest_triangle(*world.triangles, prepared, kNoIndex, hit);
  return hit;
}

// Whether anything lies on the ray before t_max, but for the surface `ignored`: a light's own body.
bool Blocked(const WorldQueries& world, const Ray& ray, std::uint32_t ignored) {
  const PreparedRay prepared(ray);
  const auto first_copy = static_cast<std::uint32_t>(world.shape_count + world.solid_count);
  const auto hides = [&](std::uint32_t index) {
    if (index >= first_copy) {
      return blocked_by_copy(world.copies[index - first_copy], ray);
    }
    return (index >= world.shape_count || world.shapes[index].surface != ignored) &&
           meet_shape(world, index, ray, ray.t_max) > 0;
  };
  for (std::size_t i = 0; i < world.endless_count; ++i) {
    if (hides(world.endless[i])) {
      return true;
    }
  }
  if (any_triangle(*world.triangles, prepared, ray.t_max)) {
    return true;
  }
  return world.shape_nodes != nullptr &&
         visit_any(
             world.shape_nodes, prepared, ray.t_max, [&](std::uint32_t first, std::uint32_t count) {
               for (std::uint32_t i = first; i < first + count; ++i) {
                 if (hides(world.shape_order[i])) {
                   return true;
                 }
               }
               return false;
             });
}

// As Blocked, but told apart: an opaque surface ends the search, passable ones are noted and the
// search goes on.
Obstacle FirstObstacle(const WorldQueries& world,
                       const Ray& ray,
                       std::uint32_t ignored,
                       bool passable_meshes,
                       bool passable_copies) {
  const PreparedRay prepared(ray);
  const auto first_copy = static_cast<std::uint32_t>(world.shape_count + world.solid_count);
  Obstacle found = Obstacle::kNone;
  // True: an opaque one.
  const auto hides = [&](std::uint32_t index) {
    const bool passable = world.passable[index] != 0 || (passable_copies && index >= first_copy);
    if (passable && found == Obstacle::kPassable) {
      return false;  // one more tells nothing new
    }
    bool meets = false;
    if (index >= first_copy) {
      meets = blocked_by_copy(world.copies[index - first_copy], ray);
    } else {
      const std::uint32_t surface = index < world.shape_count
                                        ? world.shapes[index].surface
                                        : world.solids[index - world.shape_count].surface;
      meets = surface != ignored && meet_shape(world, index, ray, ray.t_max) > 0;
    }
    found = meets && passable ? Obstacle::kPassable : found;
    return meets && !passable;
  };
  for (std::size_t i = 0; i < world.endless_count; ++i) {
    if (hides(world.endless[i])) {
      return Obstacle::kOpaque;
    }
  }
  // The set of triangles is asked as a whole: it counts as passable where any of its meshes is.
  if (any_triangle(*world.triangles, prepared, ray.t_max)) {
    if (!passable_meshes) {
      return Obstacle::kOpaque;
    }
    found = Obstacle::kPassable;
  }
  const bool opaque =
      world.shape_nodes != nullptr &&
      visit_any(
          world.shape_nodes, prepared, ray.t_max, [&](std::uint32_t first, std::uint32_t count) {
            for (std::uint32_t i = first; i < first + count; ++i) {
              if (hides(world.shape_order[i])) {
                return true;
              }
            }
            return false;
          });
  return opaque ? Obstacle::kOpaque : found;
}

const char* InstructionSet() { return hwy::TargetName(HWY_TARGET); }

}  // namespace jovilux::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace jovilux {
namespace {

HWY_EXPORT(Closest);
HWY_EXPORT(Blocked);
HWY_EXPORT(FirstObstacle);
HWY_EXPORT(InstructionSet);

}  // namespace

Hit World::closest(const Ray& ray) const {
  return HWY_DYNAMIC_DISPATCH(Closest)(WorldQueries::of(*this), ray);
}

bool World::blocked(const Ray& ray, std::uint32_t ignored) const {
  return HWY_DYNAMIC_DISPATCH(Blocked)(WorldQueries::of(*this), ray, ignored);
}

Obstacle World::first_obstacle(const Ray& ray,
                               std::uint32_t ignored,
                               bool passable_meshes,
                               bool passable_copies) const {
  return HWY_DYNAMIC_DISPATCH(FirstObstacle)(
      WorldQueries::of(*this), ray, ignored, passable_meshes, passable_copies);
}

const char* World::instruction_set() { return HWY_DYNAMIC_DISPATCH(InstructionSet)(); }

}  // namespace jovilux
#endif
