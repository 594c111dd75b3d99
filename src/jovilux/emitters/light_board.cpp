// What plain lights could bring, compiled once for each set of vector instructions and chosen at
// run time.
#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "jovilux/emitters/light_board.cpp"
#define HWY_DISABLED_TARGETS (HWY_SSSE3 | HWY_AVX3_DL)
#include "jovilux/emitters/light_board.h"

#include <cmath>

#include <hwy/foreach_target.h>
#include <hwy/highway.h>

HWY_BEFORE_NAMESPACE();
namespace jovilux::HWY_NAMESPACE {
namespace {
namespace hn = hwy::HWY_NAMESPACE;

using Lanes = hn::CappedTag<float, LightBoard::kGroup>;
using Floats = hn::Vec<Lanes>;

HWY_INLINE Floats all(float value) { return hn::Set(Lanes(), value); }

// Products and sums are not fused: a picture has the same bits on every machine.
HWY_INLINE Floats
sum_of_products(Floats ax, Floats ay, Floats az, Floats bx, Floats by, Floats bz) {
  return hn::Add(hn::Add(hn::Mul(ax, bx), hn::Mul(ay, by)), hn::Mul(az, bz));
}

// The angle of (x, y) from the x axis, y > 0 [rad]; within 1.4e-4 of it, also near 0.
// Source: M. Abramowitz, I. Stegun, "Handbook of Mathematical Functions", 1964, 4.4.49.
HWY_INLINE Floats angle_above(Floats y, Floats x) {
  const auto width = hn::Abs(x);
  const auto t = hn::Div(hn::Min(width, y), hn::Max(hn::Max(width, y), all(1e-30f)));
  const auto t2 = hn::Mul(t, t);
  auto sum = all(0.0208351f);
  for (const float c : {-0.0851330f, 0.1801410f, -0.3302995f, 0.9998660f}) {
    sum = hn::Add(hn::Mul(sum, t2), all(c));
  }
  auto angle = hn::Mul(sum, t);
  angle = hn::IfThenElse(hn::Gt(y, width), hn::Sub(all(0.5f * kPi), angle), angle);
  return hn::IfThenElse(hn::Lt(x, all(0)), hn::Sub(all(kPi), angle), angle);
}

// As jovilux::mean_cosine: the mean of max(0, x) over cosines x even in [c - s, c + s].
HWY_INLINE Floats mean_of_cosines(Floats c, Floats s) {
  const auto sum = hn::Add(c, s);
  const auto cut = hn::Div(hn::Mul(sum, sum), hn::Max(hn::Mul(all(4), s), all(1e-30f)));
  const auto some = hn::IfThenElse(hn::Ge(c, s), c, cut);
  return hn::IfThenElse(hn::Gt(sum, all(0)), some, all(0));
}

// Intensity over the squared distance of the lights from `i` on, toward a place whose offset to
// them is (to_x, to_y, to_z); also that distance and the sine of the angle that each fills there.
struct Sent {
  Floats over_square, distance, sine;
};
HWY_INLINE Sent
sent_to(const LightBoard::Columns& b, std::size_t i, Floats to_x, Floats to_y, Floats to_z) {
  const Lanes d;
  const auto load = [&](const LightBoard::Values& column) {
    return hn::LoadU(d, column.data() + i);
  };
  const auto square = sum_of_products(to_x, to_y, to_z, to_x, to_y, to_z);
  // Lanes take all branches of what the forms differ in: steps of a beam, a Lambert surface, one
  // side or two; columns of constants decide.
  const auto distance = hn::Max(hn::Sqrt(square), all(1e-12f));
  const auto reach = load(b.reach);
  const auto sine = hn::Min(all(1), hn::Div(reach, distance));
  auto cosine = hn::Div(
      sum_of_products(to_x, to_y, to_z, load(b.axis_x), load(b.axis_y), load(b.axis_z)), distance);
  cosine = hn::IfThenElse(hn::Gt(load(b.both_sides), all(0)), hn::Abs(cosine), hn::Neg(cosine));
  const auto widened = hn::Min(all(1), hn::Add(hn::Mul(load(b.widens), sine), cosine));
  const auto steps = hn::IfThenElse(
      hn::Ge(widened, load(b.cos_beam)),
      load(b.in_beam),
      hn::IfThenElse(hn::Ge(widened, load(b.cos_field)), load(b.in_field), load(b.outside)));
  const auto shape =
      hn::IfThenElse(hn::Gt(load(b.lambert), all(0)), mean_of_cosines(cosine, sine), steps);
  const auto shining = hn::IfThenElse(hn::Gt(cosine, load(b.cos_behind)), shape, all(0));
  const auto near =
      hn::Max(hn::Max(square, hn::Mul(all(0.25f), hn::Mul(reach, reach))), all(1e-12f));
  return {hn::Div(hn::Mul(load(b.power), shining), near), distance, sine};
}

// Lights beyond the last are rows of zeros: full groups need no rest loop.
void Illuminances(const LightBoard::Columns& b, const Vec3& p, const Vec3& n, float* out) {
  const Lanes d;
  for (std::size_t i = 0; i < b.count; i += hn::Lanes(d)) {
    const auto to_x = hn::Sub(hn::LoadU(d, b.x.data() + i), all(p.x())),
               to_y = hn::Sub(hn::LoadU(d, b.y.data() + i), all(p.y())),
               to_z = hn::Sub(hn::LoadU(d, b.z.data() + i), all(p.z()));
    const Sent sent = sent_to(b, i, to_x, to_y, to_z);
    const auto height = sum_of_products(to_x, to_y, to_z, all(n.x()), all(n.y()), all(n.z()));
    const auto cosine = mean_of_cosines(hn::Div(height, sent.distance), sent.sine);
    hn::StoreU(hn::Mul(sent.over_square, cosine), d, out + i);
  }
}

void Fluences(const LightBoard::Columns& b, const Vec3& p, float* out) {
  const Lanes d;
  for (std::size_t i = 0; i < b.count; i += hn::Lanes(d)) {
    const auto to_x = hn::Sub(hn::LoadU(d, b.x.data() + i), all(p.x())),
               to_y = hn::Sub(hn::LoadU(d, b.y.data() + i), all(p.y())),
               to_z = hn::Sub(hn::LoadU(d, b.z.data() + i), all(p.z()));
    hn::StoreU(sent_to(b, i, to_x, to_y, to_z).over_square, d, out + i);
  }
}

void Along(const LightBoard::Columns& b, const Ray& ray, float end, float* out) {
  const Lanes d;
  const auto dir_x = all(ray.direction.x()), dir_y = all(ray.direction.y()),
             dir_z = all(ray.direction.z());
  for (std::size_t i = 0; i < b.count; i += hn::Lanes(d)) {
    const auto to_x = hn::Sub(hn::LoadU(d, b.x.data() + i), all(ray.origin.x())),
               to_y = hn::Sub(hn::LoadU(d, b.y.data() + i), all(ray.origin.y())),
               to_z = hn::Sub(hn::LoadU(d, b.z.data() + i), all(ray.origin.z()));
    const auto nearest = sum_of_products(to_x, to_y, to_z, dir_x, dir_y, dir_z);
    const auto length = hn::Sqrt(sum_of_products(to_x, to_y, to_z, to_x, to_y, to_z));
    const auto off_x = hn::Sub(to_x, hn::Mul(nearest, dir_x)),
               off_y = hn::Sub(to_y, hn::Mul(nearest, dir_y)),
               off_z = hn::Sub(to_z, hn::Mul(nearest, dir_z));
    // As in EquiangularSpan.
    const auto apart = hn::Max(hn::Sqrt(sum_of_products(off_x, off_y, off_z, off_x, off_y, off_z)),
                               hn::Mul(all(1e-5f), hn::Add(all(1e-3f), length)));
    // The angle that the ray fills around the light: between the ways to its start and its end.
    const auto angle = std::isinf(end)
                           ? angle_above(apart, hn::Neg(nearest))
                           : angle_above(hn::Mul(all(end), apart),
                                         hn::Sub(hn::Mul(apart, apart),
                                                 hn::Mul(nearest, hn::Sub(all(end), nearest))));
    const auto t = hn::Max(all(0), std::isinf(end) ? nearest : hn::Min(nearest, all(end)));
    const auto beyond = hn::Sub(t, nearest);
    const auto square = hn::Add(hn::Mul(apart, apart), hn::Mul(beyond, beyond));
    const Sent sent = sent_to(b,
                              i,
                              hn::Sub(to_x, hn::Mul(t, dir_x)),
                              hn::Sub(to_y, hn::Mul(t, dir_y)),
                              hn::Sub(to_z, hn::Mul(t, dir_z)));
    const auto value = hn::Mul(hn::Mul(sent.over_square, hn::Div(square, apart)), angle);
    hn::StoreU(value, d, out + i);
  }
}

}  // namespace
}  // namespace jovilux::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace jovilux {
namespace {

HWY_EXPORT(Illuminances);
HWY_EXPORT(Fluences);
HWY_EXPORT(Along);

}  // namespace

// Only lights whose expectation has no table, mask, link or law to ask for.
bool LightBoard::holds(const Emitter& e) {
  const bool kind = e.kind == LightKind::kPoint || e.kind == LightKind::kSphere ||
                    e.kind == LightKind::kSpot || e.kind == LightKind::kDisk ||
                    e.kind == LightKind::kRect;
  return kind && e.detail == nullptr && e.link_bit == 0 && e.falloff.is_physical() &&
         e.half_spread == 0 && (e.by_intensity ? e.kind == LightKind::kSpot : true);
}

void LightBoard::add(const Emitter& e) {
  Columns& c = columns_;
  const std::size_t i = c.count++;
  const bool spot = e.kind == LightKind::kSpot, rect = e.kind == LightKind::kRect;
  const bool by_intensity = e.kind == LightKind::kPoint || spot;
  c.x[i] = e.center.x();
  c.y[i] = e.center.y();
  c.z[i] = e.center.z();
  c.axis_x[i] = e.frame.z.x();
  c.axis_y[i] = e.frame.z.y();
  c.axis_z[i] = e.frame.z.z();
  c.reach[i] = rect                          ? std::hypot(e.half_width, e.half_height)
               : e.kind == LightKind::kPoint ? 0.0f
                                             : e.radius;
  c.power[i] = by_intensity ? e.intensity : e.luminance * e.area();
  c.in_beam[i] = 1;
  c.cos_beam[i] = c.cos_field[i] = c.cos_behind[i] = -2;  // below every cosine
  c.lambert[i] = e.kind == LightKind::kDisk || rect ? 1.0f : 0.0f;
  c.both_sides[i] = c.lambert[i] > 0 && e.two_sided ? 1.0f : 0.0f;
  if (c.lambert[i] > 0 || (spot && e.radius > 0 && !e.two_sided)) {
    c.cos_behind[i] = 0;
  }
  if (spot) {
    const BeamSteps steps = beam_steps(e);
    c.cos_beam[i] = steps.cos_beam;
    c.cos_field[i] = steps.cos_field;
    c.in_beam[i] = steps.in_beam;
    c.in_field[i] = steps.in_field;
    c.outside[i] = steps.outside;
    c.widens[i] = e.radius > 0 ? 1.0f : 0.0f;
  }
}

void LightBoard::illuminances(const Vec3& p, const Vec3& n, Values& out) const {
  HWY_DYNAMIC_DISPATCH(Illuminances)(columns_, p, n, out.data());
}

void LightBoard::fluences(const Vec3& p, Values& out) const {
  HWY_DYNAMIC_DISPATCH(Fluences)(columns_, p, out.data());
}

void LightBoard::along(const Ray& ray, float end, Values& out) const {
  HWY_DYNAMIC_DISPATCH(Along)(columns_, ray, end, out.data());
}

}  // namespace jovilux
#endif
