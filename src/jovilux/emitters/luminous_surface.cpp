#include "jovilux/emitters/luminous_surface.h"

#include "jovilux/base/assert.h"
#include "jovilux/base/sampler.h"

#include <algorithm>
#include <cmath>

namespace jovilux {
namespace {

// Chooses among parts by their sizes; u becomes the place within the part.
template <std::size_t N>
std::size_t choose_part(const double (&size)[N], double& u) {
  double total = 0;
  for (const double s : size) {
    total += s;
  }
  double target = u * total;
  for (std::size_t i = 0; i + 1 < N; ++i) {
    if (target < size[i]) {
      u = target / size[i];
      return i;
    }
    target -= size[i];
  }
  u = size[N - 1] > 0 ? std::min(1.0, target / size[N - 1]) : 0;
  return N - 1;
}

Vec3d on_disk(double radius, double z, double u, double v) {
  const double r = radius * std::sqrt(u), a = 2 * kPiD * v;
  return {r * std::cos(a), r * std::sin(a), z};
}

// Cone and cylinder: radius `a` at -c, `b` at +c.
struct Frustum {
  double a, b, c;
  explicit Frustum(const Shape& s) : a(s.a), b(s.kind == ShapeKind::kCone ? s.b : s.a), c(s.c) {}
  double wall() const { return kPiD * (a + b) * std::hypot(a - b, 2 * c); }
};

}  // namespace

double surface_area(const Shape& s) {
  switch (s.kind) {
    case ShapeKind::kBox:
      return 8 * (s.a * s.b + s.b * s.c + s.c * s.a);
    case ShapeKind::kSphere:
      return 4 * kPiD * s.a * s.a;
    case ShapeKind::kRect:
      return 4 * s.a * s.b;
    case ShapeKind::kDisk:
      return kPiD * s.a * s.a;
    case ShapeKind::kCylinder:
    case ShapeKind::kCone: {
      const Frustum f(s);
      return f.wall() + (s.open ? 0 : kPiD * (f.a * f.a + f.b * f.b));
    }
    case ShapeKind::kTorus:
      return 4 * kPiD * kPiD * s.a * s.b;
    case ShapeKind::kPlane:
      break;
  }
  return 0;
}

Vec3d surface_place(const Shape& s, double u, double v, Vec3d& normal) {
  switch (s.kind) {
    case ShapeKind::kBox: {
      const double size[6] = {s.b * s.c, s.b * s.c, s.c * s.a, s.c * s.a, s.a * s.b, s.a * s.b};
      const std::size_t face = choose_part(size, u);
      const auto axis = static_cast<Eigen::Index>(face / 2);
      const double half[3] = {s.a, s.b, s.c};
      Vec3d p;
      p[axis] = face % 2 == 0 ? half[axis] : -half[axis];
      p[(axis + 1) % 3] = half[(axis + 1) % 3] * (2 * u - 1);
      p[(axis + 2) % 3] = half[(axis + 2) % 3] * (2 * v - 1);
      normal = Vec3d::Zero();
      normal[axis] = face % 2 == 0 ? 1 : -1;
      return p;
    }
    case ShapeKind::kSphere: {
      const double z = 1 - 2 * u, r = std::sqrt(std::max(0.0, 1 - z * z)), a = 2 * kPiD * v;
      normal = {r * std::cos(a), r * std::sin(a), z};
      return s.a * normal;
    }
    case ShapeKind::kRect:
      normal = Vec3d::UnitZ();
      return {s.a * (2 * u - 1), s.b * (2 * v - 1), 0};
    case ShapeKind::kDisk:
      normal = Vec3d::UnitZ();
      return on_disk(s.a, 0, u, v);
    case ShapeKind::kCylinder:
    case ShapeKind::kCone: {
      const Frustum f(s);
      const double size[3] = {
          f.wall(), s.open ? 0 : kPiD * f.a * f.a, s.open ? 0 : kPiD * f.b * f.b};
      const std::size_t part = choose_part(size, u);
      if (part > 0) {
        normal = {0, 0, part == 1 ? -1.0 : 1.0};
        return on_disk(part == 1 ? f.a : f.b, part == 1 ? -f.c : f.c, u, v);
      }
      // Up the wall in proportion to its girth: the root of a quadratic share.
      const double a2 = f.a * f.a, b2 = f.b * f.b;
      const double r = std::sqrt(a2 + (b2 - a2) * u);
      const double h = std::abs(f.b - f.a) > 1e-12 * (f.a + f.b) ? (r - f.a) / (f.b - f.a) : u;
      const double angle = 2 * kPiD * v, k = (f.b - f.a) / (2 * f.c);
      normal = Vec3d(std::cos(angle), std::sin(angle), -k).normalized();
      return {r * std::cos(angle), r * std::sin(angle), f.c * (2 * h - 1)};
    }
    case ShapeKind::kTorus: {
      // Around the tube in proportion to R + r cos: t + (r / R) sin t = 2 pi u, by Newton's method.
      const double k = s.b / s.a, target = 2 * kPiD * u;
      double lo = 0, hi = 2 * kPiD, t = target;
      for (int i = 0; i < 60 && hi - lo > 1e-14; ++i) {
        const double f = t + k * std::sin(t) - target;
        (f < 0 ? lo : hi) = t;
        const double slope = 1 + k * std::cos(t), next = slope > 1e-9 ? t - f / slope : lo;
        t = next > lo && next < hi ? next : 0.5 * (lo + hi);
      }
      const double a = 2 * kPiD * v, ring = s.a + s.b * std::cos(t);
      normal = {std::cos(t) * std::cos(a), std::cos(t) * std::sin(a), std::sin(t)};
      return {ring * std::cos(a), ring * std::sin(a), s.b * std::sin(t)};
    }
    case ShapeKind::kPlane:
      break;
  }
  return Vec3d::Zero();
}

LuminousSurface::LuminousSurface(Mesh mesh, Cover cover)
    : mesh_(std::move(mesh)), cover_(std::move(cover)) {
  cumulative_.reserve(mesh_.triangles.size());
  Vec3d weighted = Vec3d::Zero();
  for (const auto& t : mesh_.triangles) {
    const Vec3d a = mesh_.positions[t[0]].cast<double>(), b = mesh_.positions[t[1]].cast<double>(),
                c = mesh_.positions[t[2]].cast<double>();
    const double size = 0.5 * (b - a).cross(c - a).norm();
    area_ += size;
    weighted += size * (a + b + c) / 3;
    cumulative_.push_back(area_);
  }
  center_ = area_ > 0 ? Vec3d(weighted / area_) : Vec3d::Zero();
  for (const Vec3& p : mesh_.positions) {
    reach_ = std::max(reach_, (p.cast<double>() - center_).norm());
  }
  share_left_ = share_left();
}

LuminousSurface::LuminousSurface(const Shape& shape, const Transform& to_world, Cover cover)
    : shape_(shape), to_world_(to_world), to_local_(to_world.inverse()), cover_(std::move(cover)) {
  JOVILUX_ASSERT(shape.bounded());
  local_area_ = surface_area(shape);
  // The stretch, averaged over the surface; exact where it is the same everywhere.
  constexpr int kSide = 256;
  double sum = 0;
  Vec3d weighted = Vec3d::Zero(), lo, hi;
  for (int i = 0; i < kSide; ++i) {
    for (int j = 0; j < kSide; ++j) {
      Vec3d n;
      const Vec3d p = surface_place(shape, (i + 0.5) / kSide, (j + 0.5) / kSide, n);
      const double k = stretch(n);
      sum += k;
      weighted += k * to_world.point(p);
    }
  }
  area_ = local_area_ * sum / (kSide * kSide);
  center_ = weighted / sum;
  extents(shape, lo, hi);
  for (int corner = 0; corner < 8; ++corner) {
    const Vec3d p((corner & 1) ? lo.x() : hi.x(),
                  (corner & 2) ? lo.y() : hi.y(),
                  (corner & 4) ? lo.z() : hi.z());
    reach_ = std::max(reach_, (to_world.point(p) - center_).norm());
  }
  share_left_ = share_left();
}

// The mean of what the mask leaves over the area: each place weighed by one over its density.
double LuminousSurface::share_left() const {
  if (!cover_) {
    return 1;
  }
  constexpr std::uint32_t kPlaces = 1 << 16;
  double left = 0, all = 0;
  for (std::uint32_t i = 0; i < kPlaces; ++i) {
    const Vec2 u(static_cast<float>((i + 0.5) / kPlaces),
                 static_cast<float>(reverse_bits(i) * 0x1p-32));
    if (const SurfaceSample place = sample(u); place.pdf_area > 0) {
      all += 1 / static_cast<double>(place.pdf_area);
      left += static_cast<double>(place.covered) / static_cast<double>(place.pdf_area);
    }
  }
  return all > 0 ? left / all : 0;
}

// |det M| |M^-T n|, for a unit normal.
double LuminousSurface::stretch(const Vec3d& n) const {
  return std::abs(to_world_.linear.determinant()) * (to_local_.linear.transpose() * n).norm();
}

SurfaceSample LuminousSurface::sample(const Vec2& u) const {
  SurfaceSample out;
  if (shape_) {
    Vec3d n;
    const Vec3d p = surface_place(*shape_, u.x(), u.y(), n);
    out.position = to_world_.point(p).cast<float>();
    out.normal = (to_local_.linear.transpose() * n).normalized().cast<float>();
    out.pdf_area = static_cast<float>(1 / (local_area_ * stretch(n)));
    if (cover_) {
      out.covered = cover_(uv_at(*shape_, p));
    }
    return out;
  }
  const double target = u.x() * area_;
  auto i = static_cast<std::size_t>(
      std::upper_bound(cumulative_.begin(), cumulative_.end() - 1, target) - cumulative_.begin());
  const double before = i > 0 ? cumulative_[i - 1] : 0, size = cumulative_[i] - before;
  const double s = std::sqrt(size > 0 ? std::clamp((target - before) / size, 0.0, 1.0) : 0.5);
  const auto& t = mesh_.triangles[i];
  const auto w0 = static_cast<float>(1 - s), w1 = static_cast<float>(s * (1 - u.y())),
             w2 = static_cast<float>(s * u.y());
  const Vec3 &a = mesh_.positions[t[0]], &b = mesh_.positions[t[1]], &c = mesh_.positions[t[2]];
  out.position = w0 * a + w1 * b + w2 * c;
  const Vec3 n = (b - a).cross(c - a);
  const float length = n.norm();
  if (!(length > 0)) {
    return {};
  }
  out.normal = n / length;
  if (!mesh_.normals.empty()) {
    const Vec3 shading =
        w0 * mesh_.normals[t[0]] + w1 * mesh_.normals[t[1]] + w2 * mesh_.normals[t[2]];
    if (shading.squaredNorm() > 1e-12f && shading.normalized().dot(out.normal) < 0) {
      out.normal = -out.normal;
    }
  }
  out.pdf_area = static_cast<float>(1 / area_);
  if (cover_) {
    out.covered =
        cover_(mesh_.uvs.empty()
                   ? flat_uv(out.position.cast<double>(), out.normal.cast<double>())
                   : Vec2(w0 * mesh_.uvs[t[0]] + w1 * mesh_.uvs[t[1]] + w2 * mesh_.uvs[t[2]]));
  }
  return out;
}

float LuminousSurface::pdf_area(const Vec3& normal) const {
  if (!shape_) {
    return static_cast<float>(1 / area_);
  }
  const Vec3d local = (to_world_.linear.transpose() * normal.cast<double>()).normalized();
  return static_cast<float>(1 / (local_area_ * stretch(local)));
}

}  // namespace jovilux
