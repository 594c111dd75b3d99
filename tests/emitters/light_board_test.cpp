#include "jovilux/emitters/light_board.h"

#include "jovilux/base/sampler.h"

#include <cmath>
#include <functional>
#include <memory>
#include <vector>

#include <catch2/catch.hpp>

using namespace jovilux;

namespace {

Vec3 board_place(Rng& rng, double size) {
  return Vec3(static_cast<float>(rng.uniform(-size, size)),
              static_cast<float>(rng.uniform(-size, size)),
              static_cast<float>(rng.uniform(-size, size)));
}

// A light of each kind that the board holds, with and without size, one- and two-sided.
Emitter plain_light(Rng& rng, int i) {
  static constexpr LightKind kKinds[] = {
      LightKind::kPoint, LightKind::kSphere, LightKind::kDisk, LightKind::kRect, LightKind::kSpot};
  Emitter e;
  e.kind = kKinds[i % 5];
  e.center = board_place(rng, 3);
  e.frame = Frame::around(board_place(rng, 1).normalized());
  const auto size = static_cast<float>(std::exp(rng.uniform(-4, -1)));
  const bool no_size = e.kind == LightKind::kPoint || (e.kind == LightKind::kSpot && i % 2 == 0);
  e.radius = no_size ? 0 : size;
  e.half_width = size;
  e.half_height = 0.4f * size;
  e.by_intensity = e.kind == LightKind::kSpot;
  e.beam_exponent = i % 3 == 0 ? 0.0f : 2.0f;
  e.cos_beam = std::cos(0.3f);
  e.cos_field = std::cos(0.5f);
  e.two_sided = i % 4 == 1 && (e.kind == LightKind::kDisk || e.kind == LightKind::kRect);
  e.intensity = static_cast<float>(std::exp(rng.uniform(0, 5)));
  e.luminance = e.intensity / std::max(1e-6f, e.area());
  return e;
}

struct Board {
  LightBoard board;
  std::vector<Emitter> lights;

  explicit Board(int count) {
    Rng rng(3);
    for (int i = 0; i < count; ++i) {
      lights.push_back(plain_light(rng, i));
      REQUIRE(LightBoard::holds(lights.back()));
      board.add(lights.back());
    }
  }
};

// Roundings decide at the edges of beams and horizons: there the two may differ.
int differing(const LightBoard::Values& values,
              const std::vector<Emitter>& lights,
              const std::function<float(const Emitter&)>& expected) {
  int out = 0;
  for (std::size_t k = 0; k < lights.size(); ++k) {
    const float wanted = expected(lights[k]);
    const bool near = std::abs(values[k] - wanted) <= 1e-3f * wanted + 1e-6f;
    out += near ? 0 : 1;
  }
  return out;
}

}  // namespace

TEST_CASE("the board tells of its lights what each is expected to bring", "[emitters][lights]") {
  for (const int count : {1, 15, 16, 17, 40, 64}) {
    const Board b(count);
    Rng rng(5);
    int off = 0, looked = 0, bright = 0;
    for (int i = 0; i < 200; ++i, looked += count) {
      const Vec3 p = board_place(rng, 4), n = board_place(rng, 1).normalized();
      LightBoard::Values values;
      b.board.illuminances(p, n, values);
      off += differing(
          values, b.lights, [&](const Emitter& e) { return expected_illuminance(e, p, n); });
      for (int k = 0; k < count; ++k) {
        bright += values[static_cast<std::size_t>(k)] > 0 ? 1 : 0;
      }
      b.board.fluences(p, values);
      off += differing(values, b.lights, [&](const Emitter& e) {
        return expected_fluence(e, p, ~std::uint64_t{0});
      });
      const Ray ray{p, n};
      const float end = i % 3 == 0 ? kFar : static_cast<float>(rng.uniform(0.01, 8));
      b.board.along(ray, end, values);
      off += differing(values, b.lights, [&](const Emitter& e) {
        return expected_along(e, ray, end, ~std::uint64_t{0});
      });
    }
    INFO(count << " lights, " << off << " of " << 3 * looked);
    CHECK(off <= looked / 500);
    CHECK(bright > looked / 10);
  }
}

TEST_CASE("lights with more than plain numbers stay off the board", "[emitters][lights]") {
  Rng rng(7);
  const Emitter plain = plain_light(rng, 2);
  CHECK(LightBoard::holds(plain));
  Emitter linked = plain, spread = plain, lawful = plain, detailed = plain, tube = plain,
          sky = plain;
  linked.link_bit = 2;
  spread.half_spread = 0.5f;
  lawful.falloff.law = FalloffLaw::kNone;
  detailed.detail = std::make_shared<EmitterDetail>();
  tube.kind = LightKind::kTube;
  sky.kind = LightKind::kSky;
  for (const Emitter* e : {&linked, &spread, &lawful, &detailed, &tube, &sky}) {
    CHECK_FALSE(LightBoard::holds(*e));
  }
}
