#include "jovilux/base/sampler.h"

#include <cmath>
#include <set>
#include <vector>

#include "tests/support/statistics.h"
#include <catch2/catch.hpp>

using namespace jovilux;

TEST_CASE("every power of two of scrambled points fills each elementary interval once",
          "[base][sampler]") {
  const auto pair_number = GENERATE(0U, 1U, 7U);
  const auto stream = GENERATE(0U, 12345U);
  constexpr int kPower = 6;            // 64 points
  for (int a = 0; a <= kPower; ++a) {  // 2^a columns by 2^(6 - a) rows
    std::set<std::pair<int, int>> cells;
    for (std::uint32_t i = 64; i < 128; ++i) {  // a block that does not begin at 0
      const Vec2 u = Sampler(5, stream, i).pair(pair_number);
      cells.insert(
          {static_cast<int>(u.x() * (1 << a)), static_cast<int>(u.y() * (1 << (kPower - a)))});
    }
    CHECK(cells.size() == 64);
  }
}

TEST_CASE("four pairs at once have the bits of each alone", "[base][sampler]") {
  for (std::uint32_t index = 0; index < 200; ++index) {
    const Sampler sampler(7 + index / 50, 1000003 * index, index * index);
    const std::uint32_t first = index % 3 == 0 ? 0xfffffffdU : 4 * index;  // and where it wraps
    const std::array<Vec2, 4> points = sampler.four_pairs(first);
    for (std::uint32_t i = 0; i < 4; ++i) {
      INFO(index << ", " << i);
      REQUIRE(points[i] == sampler.pair(first + i));
      REQUIRE(points[i].x() == sampler.single(first + i));
    }
  }
}

TEST_CASE("pairs of dimensions and pixels are not correlated", "[base][sampler][statistical]") {
  constexpr int kPoints = 4096;
  const auto correlation = [&](auto first, auto second) {
    double sum = 0;
    for (std::uint32_t i = 0; i < kPoints; ++i) {
      sum += (first(i) - 0.5) * (second(i) - 0.5) * 12;
    }
    // About normal for independent values.
    return sum / kPoints * std::sqrt(static_cast<double>(kPoints));
  };
  const auto dimension = [](std::uint32_t pair, std::uint32_t stream) {
    return
        [=](std::uint32_t i) { return static_cast<double>(Sampler(1, stream, i).pair(pair).x()); };
  };
  for (std::uint32_t k = 1; k < 20; ++k) {
    CHECK(std::abs(correlation(dimension(0, 3), dimension(k, 3))) < test::kZBound);
    CHECK(std::abs(correlation(dimension(0, 3), dimension(0, 3 + k))) < test::kZBound);
  }
  CHECK(std::abs(correlation(dimension(2, 3), dimension(2, 3))) > 50);  // the alarm does ring
}

TEST_CASE("error of a smooth integral falls faster than one over the root of the samples",
          "[base][sampler]") {
  const auto error = [](std::uint32_t n) {
    double squares = 0;
    for (std::uint32_t seed = 0; seed < 64; ++seed) {
      double sum = 0;
      for (std::uint32_t i = 0; i < n; ++i) {
        const Vec2 u = Sampler(seed, 0, i).pair(0);
        sum += u.x() * u.x() * (1 + u.y());
      }
      squares += std::pow(sum / n - 0.5, 2);
    }
    return std::sqrt(squares / 64);
  };
  // Independent samples would gain 4 from 64 to 1024; scrambled nets gain near 4^3 on smooth
  // integrands.
  CHECK(error(64) / error(1024) > 16);
}

TEST_CASE(
    "values stay from 0 to below 1 and depend on nothing but seed, stream, index and dimension",
    "[base][sampler]") {
  for (std::uint32_t i = 0; i < 1000; ++i) {
    const Vec2 u = Sampler(9, i, i * 7919U).pair(i);
    CHECK((u.x() >= 0 && u.x() < 1 && u.y() >= 0 && u.y() < 1));
    CHECK(u == Sampler(9, i, i * 7919U).pair(i));
    CHECK(u.x() == Sampler(9, i, i * 7919U).single(i));
  }
  CHECK(reverse_bits(1) == 0x80000000U);
  CHECK(unit_float(0xffffffffU) < 1.0f);
}

TEST_CASE("the second dimension is the product with its direction numbers, bit by bit",
          "[base][sampler]") {
  // Direction numbers of the polynomial x + 1: m(k) = 2 m(k-1) xor m(k-1), as in the definition by
  // I. Sobol', 1967; the point is the exclusive or of those of the index's digits.
  std::uint32_t direction[32];
  direction[0] = 0x80000000U;
  for (int k = 1; k < 32; ++k) {
    direction[k] = direction[k - 1] ^ (direction[k - 1] >> 1);
  }
  const auto by_definition = [&](std::uint32_t index) {
    std::uint32_t out = 0;
    for (int k = 0; k < 32; ++k) {
      out ^= (index >> k & 1U) != 0 ? direction[k] : 0U;
    }
    return out;
  };
  for (std::uint32_t i = 0; i < 4096; ++i) {
    const std::uint32_t index = i < 1024 ? i : mix(i);
    REQUIRE(sobol_second(index) == by_definition(index));
    REQUIRE(sobol_second_reversed(index) == reverse_bits(by_definition(index)));
  }
}

TEST_CASE("points made of one lie in strips of their own, spread in each as evenly as before",
          "[base][sampler]") {
  constexpr int kPower = 6;
  const std::uint32_t count = GENERATE(1U, 3U, 4U, 6U, 8U);
  // So many columns by rows of one strip, or of the whole square, hold one of 64 points each.
  const auto cells_of = [](const std::vector<Vec2>& points, int a) {
    std::set<std::pair<int, int>> cells;
    for (const Vec2& p : points) {
      cells.insert(
          {static_cast<int>(p.x() * (1 << a)), static_cast<int>(p.y() * (1 << (kPower - a)))});
    }
    return cells.size();
  };
  for (std::uint32_t i = 0; i < count; ++i) {
    std::vector<Vec2> in_own_strip, anywhere;
    for (std::uint32_t k = 0; k < 64; ++k) {
      const Vec2 u = Sampler(9, 4, k).pair(2), strip = in_strip(u, i, count),
                 other = with_other_digits(u, i);
      CHECK(strip.x() >= static_cast<float>(i) / static_cast<float>(count) - 1e-6f);
      CHECK(strip.x() < static_cast<float>(i + 1) / static_cast<float>(count) + 1e-6f);
      CHECK((strip.y() >= 0 && strip.y() < 1));
      CHECK((other.x() >= 0 && other.x() < 1 && other.y() >= 0 && other.y() < 1));
      // Stretched to the whole square; the small step makes up for rounding at a strip's edge.
      in_own_strip.emplace_back(
          std::clamp(strip.x() * static_cast<float>(count) - static_cast<float>(i) + 1e-6f,
                     0.0f,
                     0x1.fffffep-1f),
          strip.y());
      anywhere.push_back(other);
    }
    for (int a = 0; a <= kPower; ++a) {
      CHECK(cells_of(in_own_strip, a) == 64);
      CHECK(cells_of(anywhere, a) == 64);
    }
  }
}
