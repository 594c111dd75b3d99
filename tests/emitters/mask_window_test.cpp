#include "jovilux/emitters/mask_window.h"

#include "jovilux/base/sampler.h"
#include "jovilux/color/rgb.h"

#include "tests/support/statistics.h"
#include <catch2/catch.hpp>

using namespace jovilux;
using namespace jovilux::test;

namespace {

GoboSpec spec_of(double width, double height, double turn, GoboSurround surround) {
  GoboSpec s;
  s.width = width;
  s.height = height;
  s.rotate = turn;
  s.surround = surround;
  s.distance = 0.5;
  return s;
}

// A picture that is nowhere even, and wider than high.
MaskPicture uneven_mask() {
  MaskPicture p{37, 23, {}};
  for (int y = 0; y < p.height; ++y) {
    for (int x = 0; x < p.width; ++x) {
      const bool open = (x / 3 + y / 4) % 3 == 0;
      p.rgb.push_back(open ? Eigen::Array3f(1, 0.8f, 0.5f + 0.01f * static_cast<float>(x))
                           : Eigen::Array3f::Zero().eval());
    }
  }
  return p;
}

Emitter masked(LightKind kind, const GoboSpec& spec, MaskPicture picture) {
  Emitter e;
  e.kind = kind;
  e.center = {0.1f, -0.2f, 2};
  e.frame = Frame::around(Vec3(0.1f, 0.2f, -1).normalized());
  e.luminance = 1000;
  e.radius = 0.15f;
  e.half_width = 0.2f;
  e.half_height = 0.1f;
  if (kind == LightKind::kSpot) {
    e.by_intensity = true;
    e.intensity = 100;
    e.half_beam = 0.7f;
    e.beam_exponent = 2;
    e.cos_beam = std::cos(0.7f);
    e.cos_field = 0;
  }
  e.sin2_disc = sqr(std::sin(0.06f));
  auto detail = std::make_shared<EmitterDetail>();
  detail->gobo = std::make_shared<Gobo>(spec, std::move(picture));
  e.detail = std::move(detail);
  return e;
}

struct Case {
  const char* name;
  Emitter light;
  Vec3 p;
};
std::vector<Case> cases() {
  const auto dots = [] { return pattern_picture(GoboPattern::kDots, 6, 0.4); };
  GoboSpec soft = spec_of(0.3, 0.3, 0.4, GoboSurround::kDark);
  soft.soft = 0.03;
  soft.tiles_x = 2;
  GoboSpec thin = spec_of(0.2, 0.15, 0, GoboSurround::kRepeat);
  thin.strength = 0.8;
  return {
      {"rectangle, straight mask",
       masked(LightKind::kRect, spec_of(0.25, 0.25, 0, GoboSurround::kRepeat), dots()),
       {0.3f, 0.1f, 0}},
      {"rectangle, turned mask",
       masked(LightKind::kRect, spec_of(0.3, 0.2, 0.5, GoboSurround::kRepeat), uneven_mask()),
       {-0.3f, 0.2f, 0.3f}},
      {"rectangle, seen from near the mask",
       masked(LightKind::kRect, spec_of(0.3, 0.2, 0.5, GoboSurround::kRepeat), uneven_mask()),
       {0.1f, -0.1f, 1.2f}},
      {"disk, soft edge of the mask",
       masked(LightKind::kDisk, soft, uneven_mask()),
       {0.25f, 0.1f, 0}},
      {"disk, a mask that dims a little", masked(LightKind::kDisk, thin, dots()), {0, 0, 0}},
      {"disk, mask with nothing around",
       masked(LightKind::kDisk, spec_of(0.15, 0.1, 0.3, GoboSurround::kClear), uneven_mask()),
       {0.2f, 0.1f, 0.4f}},
      {"lens of a spot",
       masked(LightKind::kSpot,
              spec_of(0.3, 0.3, 0, GoboSurround::kDark),
              pattern_picture(GoboPattern::kSlats, 5, 0.3)),
       {0.1f, 0.2f, 0}},
      {"sun",
       masked(LightKind::kSun, spec_of(0.2, 0.2, 0.2, GoboSurround::kRepeat), dots()),
       {0.3f, 0.4f, -1}},
  };
}

// How far the window reaches in the light's plane.
Eigen::Vector2d reach(const Case& c) {
  if (c.light.kind == LightKind::kRect) {
    return {c.light.half_width, c.light.half_height};
  }
  const double r = c.light.is_distant() ? MaskWindow(c.light, c.p).height() * std::tan(0.06)
                                        : static_cast<double>(c.light.radius);
  return {r, r};
}

// The place of q on the light, and the way there from p.
LightPlace place_of(const Case& c, const Eigen::Vector2d& q, Vec3& wi) {
  const Frame& f = c.light.frame;
  const Vec3 in_plane = static_cast<float>(q.x()) * f.x + static_cast<float>(q.y()) * f.y;
  if (c.light.is_distant()) {
    wi = (in_plane - static_cast<float>(MaskWindow(c.light, c.p).height()) * f.z).normalized();
    return {c.p, -wi};
  }
  const Vec3 at = c.light.center + in_plane;
  wi = (at - c.p).normalized();
  return {at, f.z};
}

}  // namespace

TEST_CASE("sums over a mask are the integrals of its transmittance", "[photometry][gobo]") {
  GoboSpec tiled = spec_of(0.4, 0.3, 0.7, GoboSurround::kDark);
  tiled.tiles_x = 3;
  tiled.tiles_y = 2;
  GoboSpec weak = spec_of(0.5, 0.25, -0.3, GoboSurround::kClear);
  weak.strength = 0.6;
  GoboSpec soft = spec_of(0.4, 0.4, 0, GoboSurround::kRepeat);
  soft.soft = 0.05;
  for (const GoboSpec& spec : {tiled, weak, soft}) {
    const Gobo gobo(spec, uneven_mask());
    const Eigen::Matrix2d back = gobo.to_tiles().inverse();
    for (const Eigen::Array4d& box : {Eigen::Array4d(0.1, 0.4, 0.2, 0.7),
                                      Eigen::Array4d(-0.8, 1.3, -0.4, 0.5),
                                      Eigen::Array4d(1.6, 4.2, 0.9, 2.8),
                                      Eigen::Array4d(-3, -2, 0, 1)}) {
      constexpr int kSide = 700;
      double sum = 0;
      for (int i = 0; i < kSide; ++i) {
        for (int k = 0; k < kSide; ++k) {
          const Eigen::Vector2d tile(box[0] + (box[1] - box[0]) * (i + 0.5) / kSide,
                                     box[2] + (box[3] - box[2]) * (k + 0.5) / kSide);
          const Eigen::Vector2d xy = back * (tile - gobo.tiles_offset());
          sum += static_cast<double>(luminance_of(
              gobo.transmittance(static_cast<float>(xy.x()), static_cast<float>(xy.y()))));
        }
      }
      const double exact = sum / (kSide * kSide) * (box[1] - box[0]) * (box[3] - box[2]),
                   over = gobo.sums().over(box[0], box[1], box[2], box[3]);
      INFO(box.transpose() << ": " << over << " against " << exact);
      // The edges of a box run through cells; within them the table is even.
      CHECK(over == Approx(exact).margin(0.01 * (box[1] - box[0]) * (box[3] - box[2])));
      // Splits are where they say.
      for (const double u : {0.0, 0.2, 0.77, 1.0}) {
        if (over > 0) {
          const double r = gobo.sums().split_rows(box[0], box[1], box[2], box[3], u);
          CHECK(gobo.sums().over(box[0], box[1], box[2], r) == Approx(u * over).margin(1e-9));
          const double whole = gobo.sums().along_row(box[0], box[1], r);
          if (whole > 0) {
            const double s = gobo.sums().split_row(box[0], box[1], r, u);
            CHECK(gobo.sums().along_row(box[0], s, r) == Approx(u * whole).margin(1e-9));
          }
        }
      }
    }
  }
}

TEST_CASE(
    "places behind a mask: their density integrates to one and is the histogram of what is chosen",
    "[emitters][gobo][statistical]") {
  for (const Case& c : cases()) {
    INFO(c.name);
    const MaskWindow window(c.light, c.p);
    REQUIRE(window.share() > 0);
    const Eigen::Vector2d half = reach(c);
    constexpr int kSide = 20, kFine = 40, kSamples = 200'000;
    std::vector<double> expected(kSide * kSide), found(kSide * kSide), bent(kSide * kSide);
    double integral = 0;
    for (int i = 0; i < kSide * kFine; ++i) {
      for (int k = 0; k < kSide * kFine; ++k) {
        const Eigen::Vector2d q((2 * (i + 0.5) / (kSide * kFine) - 1) * half.x(),
                                (2 * (k + 0.5) / (kSide * kFine) - 1) * half.y());
        const double part =
            window.density(q) * 4 * half.prod() / sqr(static_cast<double>(kSide * kFine));
        integral += part;
        expected[static_cast<std::size_t>(i / kFine * kSide + k / kFine)] += part * kSamples;
      }
    }
    Rng rng(5);
    int empty = 0;  // rows that no light comes through, from strips that some does
    for (int i = 0; i < kSamples; ++i) {
      const float u = static_cast<float>(rng.uniform()), v = static_cast<float>(rng.uniform());
      const auto count = [&](std::vector<double>& into, const Vec2& at) {
        const auto [q, density] = window.place(at);
        if (!(density > 0)) {
          empty += &into == &found ? 1 : 0;
          return;
        }
        const auto x = std::clamp(
                       static_cast<int>((q.x() / half.x() + 1) / 2 * kSide), 0, kSide - 1),
                   y = std::clamp(
                       static_cast<int>((q.y() / half.y() + 1) / 2 * kSide), 0, kSide - 1);
        into[static_cast<std::size_t>(x * kSide + y)] += 1;
      };
      count(found, {u, v});
      count(bent, {std::pow(u, 1.15f), v});
    }
    CHECK(integral + static_cast<double>(empty) / kSamples == Approx(1).epsilon(0.01));
    CHECK(empty < 0.05 * kSamples);
    const auto deviation = [&](const std::vector<double>& of) {
      double chi = 0;
      int cells = 0;
      for (std::size_t i = 0; i < of.size(); ++i) {
        if (expected[i] > 25) {
          // 2 %: edges of cells within a bin.
          chi += sqr(of[i] - expected[i]) / (expected[i] + sqr(0.02 * expected[i]));
          ++cells;
        }
      }
      return (chi - cells) / std::sqrt(2.0 * cells);
    };
    CHECK(deviation(found) < 5);
    CHECK(deviation(bent) > 10);
  }
}

TEST_CASE(
    "light through a mask is sampled without bias, by the density that it states, and with less "
    "noise",
    "[emitters][gobo][statistical]") {
  for (const Case& c : cases()) {
    INFO(c.name);
    const Vec3 n = Vec3::UnitZ();
    // The illuminance, and its variance with places even over the light, by a grid.
    const Eigen::Vector2d half = reach(c);
    const double height = c.light.is_distant()
                              ? MaskWindow(c.light, c.p).height()
                              : static_cast<double>((c.p - c.light.center).dot(c.light.frame.z));
    constexpr int kSide = 1200;
    double sum = 0, squares = 0, through = 0;
    int inside = 0;
    for (int i = 0; i < kSide; ++i) {
      for (int k = 0; k < kSide; ++k) {
        const Eigen::Vector2d q((2 * (i + 0.5) / kSide - 1) * half.x(),
                                (2 * (k + 0.5) / kSide - 1) * half.y());
        if (c.light.kind != LightKind::kRect && q.norm() > half.x()) {
          continue;
        }
        ++inside;
        Vec3 wi;
        const LightPlace at = place_of(c, q, wi);
        const LightTint tint = tint_between(c.light, c.p, at.position, wi);
        const double cosine = -static_cast<double>(wi.dot(c.light.frame.z)),
                     passes = static_cast<double>(tint.gray * luminance_of(tint.rgb));
        const double brings = static_cast<double>(seen_luminance(c.light, wi, at)) * passes *
                              cosine * cosine * cosine / sqr(height) * std::max(0.0f, wi.dot(n));
        sum += brings;
        squares += brings * brings;
        through += passes;
      }
    }
    const double area = 4 * half.prod() * inside / (static_cast<double>(kSide) * kSide);
    const double exact = sum / inside * area, evenly = squares / inside / sqr(sum / inside) - 1;
    Rng rng(8);
    RunningMoments m;
    for (int i = 0; i < 100'000; ++i) {
      const LightSample s = sample_toward(
          c.light, c.p, {static_cast<float>(rng.uniform()), static_cast<float>(rng.uniform())}, &n);
      m.add(s.weight > 0 ? s.weight * luminance_of(s.rgb) * std::max(0.0f, s.wi.dot(n)) : 0);
      if (i % 50 == 0 && s.weight > 0) {
        const Vec3 at = c.light.is_distant() ? c.p : Vec3(c.p + s.wi * s.distance);
        CHECK(light_pdf(c.light, c.p, s.wi, {at, c.light.frame.z}, &n) ==
              Approx(s.pdf).epsilon(0.02));
      }
    }
    const double grid_error = 0.002 * exact;
    CHECK(std::abs(m.mean() - exact) < kZBound * m.standard_error() + grid_error);
    // The alarm does ring.
    CHECK(std::abs(1.04 * m.mean() - exact) > kZBound * m.standard_error() + grid_error);
    const double ours = sqr(m.standard_error() / m.mean()) * 100'000;
    CHECK(ours < 0.5 * evenly);
    // For choosing among lights: about what comes through.
    const double open =
        static_cast<double>(MaskWindow(c.light, c.p, MaskWindow::Detail::kRough).open());
    CHECK(open == Approx(through / inside).margin(0.15));
  }
}

TEST_CASE("a mask that shows nothing or everything leaves nothing to choose", "[emitters][gobo]") {
  const Emitter shut = masked(LightKind::kRect,
                              spec_of(0.3, 0.3, 0, GoboSurround::kDark),
                              pattern_picture(GoboPattern::kSlats, 3, 0.5));
  const Vec3 far_aside(6, 0, 0);
  CHECK(MaskWindow(shut, far_aside).dark());
  CHECK(sample_toward(shut, far_aside, {0.3f, 0.3f}).weight == 0);
  // It is still looked at, if seldom.
  CHECK(expected_illuminance(shut, far_aside, Vec3::UnitZ()) > 0);
  const Emitter open = masked(LightKind::kRect,
                              spec_of(0.1, 0.1, 0, GoboSurround::kClear),
                              pattern_picture(GoboPattern::kSlats, 3, 0.5));
  CHECK(MaskWindow(open, far_aside).share() == 0);
  CHECK(MaskWindow(open, far_aside).open() == Approx(1).epsilon(1e-6));
  // Between the light and its mask nothing is masked.
  const Vec3 before = shut.center + 0.2f * shut.frame.z;
  CHECK(MaskWindow(shut, before).share() == 0);
  CHECK(sample_toward(shut, before, {0.3f, 0.3f}).weight > 0);
}
