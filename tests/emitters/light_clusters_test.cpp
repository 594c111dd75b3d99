#include "jovilux/emitters/light_clusters.h"

#include "jovilux/base/sampler.h"

#include "tests/support/statistics.h"
#include <catch2/catch.hpp>

using namespace jovilux;
using namespace jovilux::test;

namespace {

// Lights below this part of the brightest may be chosen by a bound.
constexpr float kFaint = 1.0f / 256;

Vec3 anywhere(Rng& rng, double size) {
  return Vec3(static_cast<float>(rng.uniform(-size, size)),
              static_cast<float>(rng.uniform(-size, size)),
              static_cast<float>(rng.uniform(-size, size)));
}
Vec3 any_direction(Rng& rng) { return anywhere(rng, 1).normalized(); }

// Lights of every near form, of all sizes and powers, some dark, some linked, some with a law of
// their own.
std::vector<Emitter> many(int count, std::uint64_t seed) {
  Rng rng(seed);
  std::vector<Emitter> out;
  static constexpr LightKind kLightKinds[] = {LightKind::kPoint,
                                              LightKind::kSphere,
                                              LightKind::kDisk,
                                              LightKind::kRect,
                                              LightKind::kSpot,
                                              LightKind::kTube};
  for (int i = 0; i < count; ++i) {
    Emitter e;
    e.kind = kLightKinds[i % 6];
    e.center = anywhere(rng, 5);
    e.frame = Frame::around(any_direction(rng));
    const auto size = static_cast<float>(std::exp(rng.uniform(-4, -1)));
    e.radius = e.kind == LightKind::kPoint || (e.kind == LightKind::kSpot && i % 4 == 0) ? 0 : size;
    e.half_width = size;
    e.half_height = 0.5f * size;
    e.by_intensity = e.kind == LightKind::kSpot;
    e.half_beam = 0.3f;
    e.beam_exponent = i % 5 == 0 ? 0.0f : 2.0f;
    e.cos_beam = std::cos(0.3f);
    e.cos_field = std::cos(0.5f);
    e.two_sided = i % 7 == 0 && (e.kind == LightKind::kDisk || e.kind == LightKind::kRect);
    e.intensity = static_cast<float>(std::exp(rng.uniform(0, 5)));
    e.luminance = e.intensity / std::max(1e-6f, e.area());
    if (i % 11 == 3) {
      e.intensity = e.luminance = 0;
    }
    if (i % 13 == 1) {
      e.link_bit = 2;
    }
    if (i % 29 == 1) {
      e.falloff.law = FalloffLaw::kNone;
    }
    out.push_back(e);
  }
  return out;
}

LightQuery any_query(Rng& rng, int i, std::uint64_t links) {
  const Vec3 p = anywhere(rng, 7);
  switch (i % 3) {
    case 0:
      return LightQuery::surface(p, any_direction(rng), links);
    case 1:
      return LightQuery::point(p, links);
    default:
      return LightQuery::along({p, any_direction(rng)},
                               i % 2 == 0 ? kFar : static_cast<float>(rng.uniform(0.1, 9)),
                               links);
  }
}

}  // namespace

TEST_CASE("few lights are chosen in proportion to what each could bring", "[emitters][lights]") {
  const auto lights = many(20, 1);
  const LightClusters tree(lights);
  Rng rng(2);
  for (int i = 0; i < 60; ++i) {
    const LightQuery q = any_query(rng, i, ~std::uint64_t{0});
    double sum = 0;
    float brightest = 0;
    for (const Emitter& e : lights) {
      sum += expected(e, q);
      brightest = std::max(brightest, expected(e, q));
    }
    const LightChoice c = tree.choose(lights, q, static_cast<float>(rng.uniform()));
    // A faint light may count for more than it could bring, up to the limit.
    CHECK(c.total >= Approx(sum).epsilon(1e-4));
    CHECK(c.total <= sum + 20 * kFaint * brightest);
    if (c.index != kNoIndex && expected(lights[c.index], q) > kFaint * brightest) {
      CHECK(c.chance * c.total == Approx(expected(lights[c.index], q)).epsilon(1e-4));
    }
  }
  const std::vector<Emitter> none;
  CHECK(LightClusters(none).choose(none, LightQuery::point(Vec3::Zero(), 1), 0.5f).index ==
        kNoIndex);
}

TEST_CASE(
    "the tree gives every light that could bring something a chance, and its chances are those it "
    "chooses by",
    "[emitters][lights]") {
  for (const int count : {30, 500}) {
    const auto lights = many(count, static_cast<std::uint64_t>(count));
    const LightClusters tree(lights);
    Rng rng(7);
    for (int i = 0; i < 300; ++i) {
      const LightQuery q = any_query(rng,
                                     i,
                                     i % 5 == 0   ? std::uint64_t{0}
                                     : i % 5 == 1 ? std::uint64_t{1}
                                                  : ~std::uint64_t{0});
      const float total = tree.total(lights, q);
      double sum = 0;
      for (std::uint32_t k = 0; k < lights.size(); ++k) {
        const float could = expected(lights[k], q),
                    chance = total > 0 ? tree.chance(lights, q, k, total) : 0;
        if (could > 1e-6f && !(chance > 0)) {
          FAIL("light " << k << " of " << count << " could bring " << could
                        << " and is never chosen, query " << i);
        }
        CHECK((could > 0 || chance < 1.01 * kFaint));
        sum += chance;
      }
      CHECK(sum < 1 + 1e-4);
      for (int draw = 0; draw < 3; ++draw) {
        const LightChoice c = tree.choose(lights, q, static_cast<float>(rng.uniform()));
        CHECK(c.total == total);
        if (c.index != kNoIndex) {
          CHECK(c.chance == Approx(tree.chance(lights, q, c.index, total)).epsilon(2e-3));
        }
      }
    }
  }
}

TEST_CASE("several choices at once are those made one by one", "[emitters][lights]") {
  for (const int count : {1, 30, 500}) {
    const auto lights = many(count, static_cast<std::uint64_t>(count));
    const LightClusters tree(lights);
    Rng rng(11);
    for (int i = 0; i < 60; ++i) {
      const LightQuery q = any_query(rng, i, ~std::uint64_t{0});
      std::array<float, 5> u{};
      std::array<LightChoice, 5> choices;
      for (float& v : u) {
        v = static_cast<float>(rng.uniform());
      }
      tree.choose_each(lights, q, u, choices);
      for (std::size_t k = 0; k < u.size(); ++k) {
        const LightChoice one = tree.choose(lights, q, u[k]);
        CHECK(choices[k].index == one.index);
        CHECK(choices[k].chance == one.chance);
        CHECK(choices[k].total == one.total);
      }
    }
  }
}

TEST_CASE("beside a floodlight faint lamps keep a chance, and the sum of all is unbiased",
          "[emitters][lights][statistical]") {
  std::vector<Emitter> lights;
  for (int i = 0; i < 24; ++i) {
    Emitter e;
    e.kind = LightKind::kSphere;
    e.radius = 0.02f;
    e.center = Vec3(0.4f * static_cast<float>(i % 6), 0.4f * static_cast<float>(i / 6), 2);
    e.intensity = i == 7 ? 50'000.0f : 1.0f;
    e.luminance = e.intensity / e.area();
    lights.push_back(e);
  }
  const LightClusters tree(lights);
  Rng rng(13);
  for (const Vec3& p : {Vec3(0.5f, 0.3f, 0), Vec3(-3, 2, 0.5f)}) {
    const LightQuery q = LightQuery::surface(p, Vec3(0, 0, 1), ~std::uint64_t{0});
    const float total = tree.total(lights, q);
    double faint = 0, chances = 0;
    for (std::uint32_t k = 0; k < lights.size(); ++k) {
      const float chance = tree.chance(lights, q, k, total);
      CHECK(chance >= 0.99f * expected(lights[k], q) / total);
      chances += chance;
      faint += k == 7 ? 0.0 : static_cast<double>(expected(lights[k], q));
    }
    CHECK(chances == Approx(1).epsilon(1e-4));
    // What the faint ones bring together, by choices that seldom fall on them.
    RunningMoments m;
    for (int k = 0; k < 400'000; ++k) {
      const LightChoice c = tree.choose(lights, q, static_cast<float>(rng.uniform()));
      m.add(c.index == 7 ? 0.0 : static_cast<double>(expected(lights[c.index], q)) / c.chance);
    }
    CHECK(std::abs(z_test(m, faint).z) < kZBound);
    CHECK(std::abs((2 * m.mean() - faint) / m.standard_error()) > kZBound);  // a bias is seen
  }
}

TEST_CASE("what the tree chooses sums up to what all lights bring, with little scatter",
          "[emitters][lights][statistical]") {
  const auto lights = many(1000, 5);
  const LightClusters tree(lights);
  Rng rng(9), query_rng(9);
  int queries = 0, biases_seen = 0;
  double scatter = 0;  // sum of variances, of those without a look
  for (int i = 0; i < 30; ++i) {
    const LightQuery q = any_query(query_rng, i, ~std::uint64_t{0});
    double exact = 0, squares = 0;
    for (const Emitter& e : lights) {
      exact += expected(e, q);
      squares += sqr(expected(e, q));
    }
    if (!(exact > 0)) {
      continue;  // a ray that ends where no light shines
    }
    RunningMoments m;
    for (int k = 0; k < 20'000; ++k) {
      const LightChoice c = tree.choose(lights, q, static_cast<float>(rng.uniform()));
      m.add(c.index == kNoIndex ? 0.0
                                : static_cast<double>(expected(lights[c.index], q)) / c.chance);
    }
    // Choosing without looking scatters by the root of N sum x^2 / (sum x)^2 - 1.
    const double blind = static_cast<double>(lights.size()) * squares - exact * exact;
    INFO("query " << i << ": " << m.mean() << " against " << exact << ", scatter "
                  << std::sqrt(m.variance()) / exact << ", blind " << std::sqrt(blind) / exact);
    CHECK(std::abs(z_test(m, exact).z) < kZBound);
    CHECK(m.variance() < blind);
    ++queries;
    biases_seen += std::abs(1.1 * m.mean() - exact) > kZBound * m.standard_error() ? 1 : 0;
    scatter += m.variance() / blind;
  }
  REQUIRE(queries > 20);
  INFO(scatter / queries << " of the variance of choosing blindly, " << biases_seen << " of "
                         << queries);
  CHECK(scatter < 0.2 * queries);
  CHECK(biases_seen > 0.75 * queries);
}

TEST_CASE("the only light is chosen without a look, where it could bring something",
          "[emitters][lights]") {
  std::vector<Emitter> lights = many(6, 3);
  for (std::size_t i = 0; i < lights.size(); ++i) {
    if (i != 2) {  // a disk
      lights[i].intensity = lights[i].luminance = 0;
    }
  }
  Rng rng(4);
  const std::vector<float> arrives(LightClusters(lights).slots(), 0.01f);
  const auto check = [&](std::uint64_t links) {
    const LightClusters tree(lights);
    int brought = 0;
    for (int i = 0; i < 300; ++i) {
      const LightQuery q = any_query(rng, i, links);
      const float value = expected(lights[2], q);
      const LightChoice c = tree.choose(lights, q, static_cast<float>(rng.uniform()));
      if (value > 0) {
        ++brought;
        REQUIRE(c.index == 2);
        CHECK(c.chance == 1);
        CHECK(tree.chance(lights, q, 2, c) == Approx(1));
        const LightSet set = tree.choose_set(lights, q, 0.5f, arrives, 2);
        CHECK(tree.chance(lights, q, 2, set, arrives) == Approx(1));
      }
      CHECK((c.index == 2 || c.index == kNoIndex));
    }
    return brought;
  };
  CHECK(check(~std::uint64_t{0}) > 20);
  // Of a light with a list of what it reaches, places that are not on it get nothing.
  lights[2].link_bit = 4;
  CHECK(check(2) == 0);
  CHECK(check(4) > 20);
}
