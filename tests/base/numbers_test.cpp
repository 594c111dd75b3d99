// Quadrature, interpolation, running moments, box sums, loops and large arrays: closed forms, and
// what each promises.
#include "jovilux/base/box_sums.h"
#include "jovilux/base/interpolation.h"
#include "jovilux/base/large_array.h"
#include "jovilux/base/length.h"
#include "jovilux/base/parallel.h"
#include "jovilux/base/quadrature.h"
#include "jovilux/base/sampler.h"
#include "jovilux/base/statistics.h"

#include <atomic>
#include <cmath>
#include <numeric>
#include <set>
#include <stdexcept>
#include <thread>
#include <vector>

#include <catch2/catch.hpp>

using namespace jovilux;

TEST_CASE("quadrature is exact for polynomials of degree 19, and no farther", "[base][numbers]") {
  for (int degree = 0; degree <= 19; ++degree) {
    const auto power = [degree](double x) { return std::pow(x, degree); };
    INFO("x^" << degree);
    CHECK(integral(power, 0, 2, 1) ==
          Approx(std::pow(2.0, degree + 1) / (degree + 1)).epsilon(1e-13));
    // From right to left it is the negative.
    CHECK(integral(power, 2, 0, 1) ==
          Approx(-std::pow(2.0, degree + 1) / (degree + 1)).epsilon(1e-13));
  }
  const auto high = [](double x) { return std::pow(x, 40); };
  CHECK(std::abs(integral(high, -1, 1, 1) - 2.0 / 41) > 1e-6);
  CHECK(integral(high, -1, 1, 32) == Approx(2.0 / 41).epsilon(1e-12));
}

TEST_CASE("quadrature agrees with integrals of physics", "[base][numbers]") {
  // A Lambertian source's flux over its intensity; Planck's law in x = c2 / (lambda T).
  CHECK(integral([](double t) { return 2 * M_PI * std::cos(t) * std::sin(t); }, 0, M_PI / 2) ==
        Approx(M_PI).epsilon(1e-14));
  CHECK(integral([](double x) { return x * x * x / std::expm1(x); }, 1e-9, 60, 64) ==
        Approx(std::pow(M_PI, 4) / 15).epsilon(1e-10));
  // A kink within a panel costs digits; at a panel's end it costs none.
  const auto kink = [](double x) { return std::abs(x); };
  CHECK(integral(kink, -1, 1, 2) == Approx(1.0).epsilon(1e-14));
  CHECK(std::abs(integral(kink, -1, 1.1, 3) - (0.5 + 0.5 * 1.21)) > 1e-6);
}

TEST_CASE("a monotone cubic passes through its points, keeps between them, and stays at its ends",
          "[base][numbers]") {
  const std::vector<double> x = {0, 1, 1.5, 4, 7, 7.25}, y = {0, 0.1, 3, 3, 8, 8.5};
  const MonotoneCubic curve(x, y);
  for (std::size_t i = 0; i < x.size(); ++i) {
    CHECK(curve(x[i]) == Approx(y[i]).margin(1e-14));
  }
  double before = -1;
  for (int k = 0; k <= 2000; ++k) {
    const double at = 7.25 * k / 2000, value = curve(at);
    CHECK(value >= before - 1e-12);  // rises as the points do
    before = value;
    const auto i = static_cast<std::size_t>(
        std::min<std::ptrdiff_t>(std::upper_bound(x.begin(), x.end(), at) - x.begin(), 5));
    CHECK(value >= y[i - 1] - 1e-12);
    CHECK(value <= y[i] + 1e-12);
  }
  CHECK(curve(-5) == 0);
  CHECK(curve(100) == 8.5);
  CHECK(curve(2.7) == Approx(3).margin(1e-12));  // flat where both points are the same
}

TEST_CASE("a monotone cubic keeps turns, single points and straight lines", "[base][numbers]") {
  const MonotoneCubic hill({0, 1, 2, 3}, {0, 1, 1.2, 0});
  for (int k = 0; k <= 300; ++k) {
    CHECK(hill(k / 100.0) <= 1.2 + 1e-12);  // no overshoot at the turn
    CHECK(hill(k / 100.0) >= -1e-12);
  }
  const MonotoneCubic one({2}, {5});
  CHECK(one(-1) == 5);
  CHECK(one(2) == 5);
  CHECK(one(9) == 5);
  const MonotoneCubic line({0, 0.3, 1, 5}, {1, 1.6, 3, 11});
  for (double at = 0; at <= 5; at += 0.0625) {
    CHECK(line(at) == Approx(1 + 2 * at).epsilon(1e-12));
  }
  // The cubic's own definition: values and slopes at both ends.
  const auto h = [](double t) { return hermite(1.0, -2.0, 4.0, 0.5, 2.0, t); };
  CHECK(h(0) == 1);
  CHECK(h(1) == 4);
  CHECK((h(1e-6) - h(0)) / 2e-6 == Approx(-2).epsilon(1e-4));
  CHECK((h(1) - h(1 - 1e-6)) / 2e-6 == Approx(0.5).epsilon(1e-4));
  CHECK(monotone_slope(1.0, 2.0, 1.0, -3.0) == 0);
  CHECK(monotone_slope(1.0, 2.0, 1.0, 2.0) == Approx(2));
}

TEST_CASE("running moments are those of the definition, also far from zero", "[base][numbers]") {
  for (const double offset : {0.0, 1e9}) {
    RunningMoments moments;
    CHECK(moments.variance() == 0);
    CHECK(moments.standard_error() == 0);
    Rng rng(3);
    std::vector<double> values;
    for (int i = 0; i < 1000; ++i) {
      values.push_back(offset + rng.uniform(-2, 5));
      moments.add(values.back());
    }
    const double mean = std::accumulate(values.begin(), values.end(), 0.0) / 1000;
    double squares = 0;
    for (const double v : values) {
      squares += (v - mean) * (v - mean);
    }
    CHECK(moments.count() == 1000);
    CHECK(moments.mean() == Approx(mean).epsilon(1e-12));
    CHECK(moments.variance() == Approx(squares / 999).epsilon(1e-6));
    CHECK(moments.standard_error() == Approx(std::sqrt(squares / 999 / 1000)).epsilon(1e-6));
  }
  RunningMoments alone;
  alone.add(7);
  CHECK(alone.mean() == 7);
  CHECK(alone.variance() == 0);
}

TEST_CASE("a percentile is a number of the list, the lower of two", "[base][numbers]") {
  CHECK(percentile(std::vector<double>{}, 0.5) == 0);
  CHECK(percentile(std::vector<int>{4}, 0.0) == 4);
  CHECK(percentile(std::vector<int>{4}, 1.0) == 4);
  const std::vector<int> five = {50, 10, 40, 20, 30};
  CHECK(percentile(five, 0.0) == 10);
  CHECK(percentile(five, 0.24) == 10);
  CHECK(percentile(five, 0.25) == 20);
  CHECK(percentile(five, 0.5) == 30);
  CHECK(percentile(five, 0.99) == 40);
  CHECK(percentile(five, 1.0) == 50);
}

TEST_CASE("sums over boxes are those of loops over all pixels in them, cut off at the edges",
          "[base][numbers]") {
  const auto [width, height, reach] = GENERATE(table<int, int, int>({{1, 1, 0},
                                                                     {1, 1, 3},
                                                                     {7, 1, 2},
                                                                     {1, 9, 2},
                                                                     {13, 11, 0},
                                                                     {13, 11, 1},
                                                                     {13, 11, 4},
                                                                     {13, 11, 40}}));
  INFO(width << " x " << height << ", reach " << reach);
  Rng rng(17);
  std::vector<float> values(static_cast<std::size_t>(width * height));
  for (float& v : values) {
    v = static_cast<float>(std::floor(rng.uniform(0, 100)));  // sums of integers are exact
  }
  const auto at = [&](int x, int y) { return values[static_cast<std::size_t>(y * width + x)]; };
  std::vector<float> wanted;
  for (int y = 0; y < height; ++y) {
    for (int x = 0; x < width; ++x) {
      float sum = 0;
      for (int v = std::max(0, y - reach); v <= std::min(height - 1, y + reach); ++v) {
        for (int u = std::max(0, x - reach); u <= std::min(width - 1, x + reach); ++u) {
          sum += at(u, v);
        }
      }
      wanted.push_back(sum);
    }
  }
  std::vector<float> sums = values;
  box_sums(width, height, reach, sums);
  CHECK(sums == wanted);
}

TEST_CASE("a loop's body runs once for each index, on as many threads as are let, or fewer",
          "[base][numbers]") {
  const int threads = GENERATE(1, 2, 3);
  with_threads(threads, [&] {
    CHECK(available_threads() == threads);
    for (const std::size_t count : {std::size_t{0}, std::size_t{1}, std::size_t{1000}}) {
      std::vector<std::atomic<int>> calls(count);
      std::atomic<int> busy{0}, most{0};
      parallel_for(count, [&](std::size_t i) {
        const int now = ++busy;
        for (int seen = most; now > seen && !most.compare_exchange_weak(seen, now);) {
        }
        ++calls[i];
        --busy;
      });
      CHECK(std::all_of(calls.begin(), calls.end(), [](const auto& n) { return n == 1; }));
      CHECK(most <= threads);
    }
  });
}

TEST_CASE("a loop within a loop is done whole, and an exception comes out of both",
          "[base][numbers]") {
  std::vector<std::atomic<int>> sums(20);
  parallel_for(20, [&](std::size_t i) {
    parallel_for(50, [&](std::size_t k) { sums[i] += static_cast<int>(k); });
  });
  CHECK(std::all_of(sums.begin(), sums.end(), [](const auto& n) { return n == 1225; }));
  std::atomic<int> begun{0};
  CHECK_THROWS_WITH(parallel_for(10000,
                                 [&](std::size_t i) {
                                   ++begun;
                                   if (i == 7) {
                                     throw std::runtime_error("the seventh");
                                   }
                                   std::this_thread::sleep_for(std::chrono::microseconds(20));
                                 }),
                    "the seventh");
  CHECK(begun < 10000);  // what had not begun is left out
  CHECK_THROWS_AS(with_threads(2, [] { throw std::logic_error("work"); }), std::logic_error);
  // Afterwards loops run as before.
  std::atomic<int> after{0};
  parallel_for(100, [&](std::size_t) { ++after; });
  CHECK(after == 100);
}

TEST_CASE("large arrays are aligned, keep what they hold as they grow, and refuse the impossible",
          "[base][numbers]") {
  struct alignas(64) Line {
    double value[8];
  };
  LargeArray<Line> lines;
  for (int i = 0; i < 200'000; ++i) {  // 12.8 MB: over several large pages
    lines.push_back({{static_cast<double>(i)}});
  }
  CHECK(reinterpret_cast<std::uintptr_t>(lines.data()) % 64 == 0);
  for (int i = 0; i < 200'000; i += 999) {
    CHECK(lines[static_cast<std::size_t>(i)].value[0] == i);
  }
  const LargeArray<Line> copy = lines;
  CHECK(copy.size() == lines.size());
  CHECK(copy.back().value[0] == 199'999);
  LargeArray<char> small(3, 'x');
  CHECK(small == LargeArray<char>{'x', 'x', 'x'});
  LargeAllocator<double> allocator;
  CHECK_THROWS_AS(allocator.allocate(static_cast<std::size_t>(-1) / 8), std::bad_alloc);
}

TEST_CASE("lengths agree with the library's for all that scenes hold", "[base][numbers]") {
  Rng rng(21);
  for (int i = 0; i < 10'000; ++i) {
    const double a = std::pow(10, rng.uniform(-140, 140)), b = a * rng.uniform(-3, 3);
    CHECK(length_of(a, b) == Approx(std::hypot(a, b)).epsilon(5e-16));
  }
  CHECK(length_of(0, 0) == 0);
  CHECK(length_of(-3, 4) == 5);
}
