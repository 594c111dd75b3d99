#include "jovilux/base/sampler.h"
#include "jovilux/judge/bounded_fit.h"
#include "jovilux/judge/comparison.h"
#include "jovilux/judge/picture_match.h"

#include <array>
#include <cmath>

#include "cli/arguments.h"
#include "cli/sweep_range.h"
#include "figures/sheet_figure.h"
#include <catch2/catch.hpp>

using namespace jovilux;

namespace {

RenderedImage even(int width, int height, float value) {
  RenderedImage out;
  out.width = width;
  out.height = height;
  out.absolute = true;
  out.rgb.assign(3 * out.pixels(), value);
  out.variance.assign(out.pixels(), 0.0001f * value * value);
  return out;
}

}  // namespace

TEST_CASE("a picture twice as bright differs by a stop, and beyond its noise", "[judge][compare]") {
  const RenderedImage a = even(20, 10, 5), b = even(20, 10, 10);
  const Comparison same = compare_images(a, a, 1e-3), twice = compare_images(a, b, 1e-3);
  CHECK(same.mean_stops == 0);
  CHECK(same.delta_e_mean == 0);
  CHECK(same.rmse == 0);
  CHECK(same.z == 0);
  CHECK(twice.mean_stops == Approx(1));
  CHECK(twice.max_stops == Approx(1));
  CHECK(twice.rmse == Approx(5).epsilon(1e-5));
  CHECK(twice.delta_e_mean > 5);
  // Standard error of a pixel 1 %, of the mean that over the root of 200, of which neighbors have
  // some in common.
  const double variance = (0.0001 * 25 + 0.0001 * 100) / independent_pixels(200, false);
  CHECK(twice.z == Approx(5 / std::sqrt(variance)).epsilon(1e-4));
  CHECK(twice.beyond_noise == 1);
}

TEST_CASE("a mean over pixels that share samples is told less certain", "[judge]") {
  CHECK(independent_pixels(1, false) == 1);
  // Of a row of m pixels with a correlation of 1/4 one apart: m / (1 + (1 - 1 / m) / 2).
  CHECK(independent_pixels(4, false) == Approx(4 / (1.25 * 1.25)));
  CHECK(independent_pixels(1e8, false) == Approx(1e8 / 2.25).epsilon(1e-3));
  CHECK(independent_pixels(100, true) == 1);
}

TEST_CASE("the comparison's z is that of its noise", "[judge][compare][statistical]") {
  // Two pictures of the same, with noise of a known variance that neighbors share as samples are
  // shared, with a correlation of 1/4: z is standard normal.
  Rng rng(3);
  double squares = 0;
  constexpr int kTrials = 200, kSide = 16;
  constexpr double kBeside = 0.129;  // k / (1 + 2 k^2) = 1 / 8
  for (int t = 0; t < kTrials; ++t) {
    RenderedImage a = even(kSide, kSide, 5), b = even(kSide, kSide, 5);
    for (RenderedImage* image : {&a, &b}) {
      std::array<std::array<double, kSide + 2>, kSide + 2> white;
      for (auto& row : white) {
        for (double& n : row) {
          n = 0.5 * std::sqrt(12.0) * (rng.uniform() - 0.5) / (1 + 2 * kBeside * kBeside);
        }
      }
      for (std::size_t i = 0; i < image->pixels(); ++i) {
        double noise = 0;
        for (std::size_t k = 0; k < 9; ++k) {
          noise += white[i / kSide + k / 3][i % kSide + k % 3] * (k / 3 == 1 ? 1 : kBeside) *
                   (k % 3 == 1 ? 1 : kBeside);
        }
        for (std::size_t c = 0; c < 3; ++c) {
          image->rgb[3 * i + c] += static_cast<float>(noise);
        }
        image->variance[i] = 0.25f;
      }
    }
    squares += sqr(compare_images(a, b, 1e-3).z) / kTrials;
  }
  CHECK(squares == Approx(1).margin(0.4));
}

TEST_CASE("resizing and shrinking keep the mean", "[judge]") {
  RenderedImage a = even(64, 32, 1);
  for (std::size_t i = 0; i < a.rgb.size(); ++i) {
    a.rgb[i] = static_cast<float>(i % 7);
  }
  const auto mean = [](const RenderedImage& r) {
    double sum = 0;
    for (const float v : r.rgb) {
      sum += v;
    }
    return sum / static_cast<double>(r.rgb.size());
  };
  CHECK(mean(shrunk(a, 16, 100)) == Approx(mean(a)).epsilon(1e-5));
  CHECK(shrunk(a, 16, 100).height == 8);
  CHECK(mean(resized(a, 128, 64)) == Approx(mean(a)).epsilon(0.02));
}

TEST_CASE("bounded least squares finds the solution, and its bounds", "[judge][balance]") {
  Eigen::MatrixXd A(3, 2);
  A << 1, 0, 0, 2, 1, 1;
  const Eigen::VectorXd truth = Eigen::Vector2d(0.3, 0.8), none = Eigen::VectorXd::Zero(2),
                        one = Eigen::VectorXd::Ones(2);
  CHECK((bounded_least_squares(A, A * truth, one, none) - truth).norm() < 1e-8);
  const Eigen::VectorXd far = bounded_least_squares(A, A * Eigen::Vector2d(-0.5, 3), one, none);
  CHECK(far[0] == Approx(0.5));  // the best beside the second's bound
  CHECK(far[1] == 1);
  const Eigen::VectorXd below = bounded_least_squares(A, A * Eigen::Vector2d(-2, 0.5), one, none);
  CHECK(below[0] == 0);
  CHECK(below[1] == Approx((2 * 2 * 0.5 - 1.5) / 5).margin(1e-9));
  // One meter, three lights: all are scaled alike where each counts by what it brings.
  Eigen::MatrixXd meter(1, 3);
  meter << 0.6, 0.3, 0.1;
  const Eigen::VectorXd half = bounded_least_squares(meter,
                                                     Eigen::VectorXd::Constant(1, 0.5),
                                                     Eigen::VectorXd::Ones(3),
                                                     1e-6 * meter.transpose().col(0));
  CHECK((half.array() - 0.5).abs().maxCoeff() < 1e-4);
}

TEST_CASE("negative eigenvalues are raised to a millionth of the largest, the others stay",
          "[judge][balance]") {
  // Eigenvalues 3 and -1, along (1, 1) and (1, -1).
  const Eigen::Matrix2d indefinite{{1, 2}, {2, 1}};
  double least = 0;
  const Eigen::MatrixXd positive = made_positive(indefinite, least);
  CHECK(least == Approx(3e-6));
  CHECK((positive * Eigen::Vector2d(1, 1) - Eigen::Vector2d(3, 3)).norm() < 1e-9);
  CHECK((positive * Eigen::Vector2d(1, -1) - 3e-6 * Eigen::Vector2d(1, -1)).norm() < 1e-9);
}

TEST_CASE("sandwich errors of unknowns apart are the scores' spread over the slope",
          "[judge][balance]") {
  const Eigen::VectorXd errors =
      sandwich_errors(Eigen::Vector2d(2, 4).asDiagonal().toDenseMatrix(),
                      Eigen::Vector2d(9, 4).asDiagonal().toDenseMatrix());
  CHECK(errors[0] == Approx(3.0 / 2));
  CHECK(errors[1] == Approx(2.0 / 4));
}

TEST_CASE("a picture made of known levels gives them back", "[judge][balance]") {
  Rng rng(5);
  RenderedImage image = even(40, 30, 0);
  std::vector<BalancedLight> lights(3);
  const std::vector<double> truth = {0.25, 1.0, 0.6};
  RenderedImage reference = even(40, 30, 0);
  for (std::size_t l = 0; l < 3; ++l) {
    image.layers.push_back({"l" + std::to_string(l), std::vector<float>(image.rgb.size()), {}});
    lights[l].layer = image.layers[l].name;
    for (std::size_t i = 0; i < image.rgb.size(); ++i) {
      const auto v = static_cast<float>(
          std::exp(-sqr(static_cast<double>(i % 120) / 120 - 0.3 * static_cast<double>(l)) * 20) *
          (1 + 0.2 * rng.uniform()));
      image.layers[l].rgb[i] = v;
      image.rgb[i] += v;
      reference.rgb[i] += static_cast<float>(truth[l]) * v;
    }
  }
  reference.absolute = true;
  CHECK(match_picture(image, reference, false, lights).residual < 1e-3);
  for (std::size_t l = 0; l < 3; ++l) {
    CHECK(lights[l].times == Approx(truth[l]).epsilon(0.01));
  }
  // As the sum of its layers; unchanged to the bit without factors.
  RenderedImage same = image;
  for (BalancedLight& l : lights) {
    l.factor = Rgb::Ones();
  }
  apply_balance(same, lights);
  CHECK(same.rgb == image.rgb);
  lights[0].factor = Rgb(0, 0, 0);
  apply_balance(same, lights);
  CHECK(same.rgb[5] == image.layers[1].rgb[5] + image.layers[2].rgb[5]);
}

TEST_CASE("bands hold a stop each, and their colors grow lighter", "[figures]") {
  figures::FalseColor f;
  f.gray = 10;
  f.bands = 12;
  // Gray lies in the middle of its band.
  CHECK(figures::band_of(f, 10) == 6);
  CHECK(figures::band_of(f, 10 * 1.41) == 6);
  CHECK(figures::band_of(f, 10 * 1.42) == 7);
  CHECK(figures::band_of(f, 10 / 1.41) == 6);
  CHECK(figures::band_of(f, 10 / 1.42) == 5);
  CHECK(figures::band_of(f, 20) == 7);
  CHECK(figures::band_of(f, 0) == 0);
  CHECK(figures::band_of(f, 1e9) == 11);
  double before = -1;
  for (int b = 0; b < 12; ++b) {
    const std::string c = figures::band_color(b, 12);
    const auto part = [&](std::size_t i) {
      return srgb_decoded(std::stoi(c.substr(i, 2), nullptr, 16) / 255.0);
    };
    const double y = 0.2126 * part(1) + 0.7152 * part(3) + 0.0722 * part(5);
    CHECK(y > before);
    before = y;
  }
  f.stops = false;
  f.lowest = 0;
  f.highest = 120;
  CHECK(figures::band_of(f, 25) == 2);
}

TEST_CASE("what a sweep goes through", "[cli][sweep]") {
  using cli::parse_sweep;
  const auto even_steps = parse_sweep("light.key.dimmer = 0 .. 1 / 5");
  CHECK(even_steps.address == "light.key.dimmer");
  CHECK(even_steps.values == std::vector<std::string>{"0", "0.25", "0.5", "0.75", "1"});
  const auto ratios = parse_sweep("haze.mist.extinction = 0.02 /m .. 0.54 /m / 4 log");
  CHECK(ratios.unit == "/m");
  CHECK(ratios.values ==
        std::vector<std::string>{"\"0.02 /m\"", "\"0.06 /m\"", "\"0.18 /m\"", "\"0.54 /m\""});
  CHECK(parse_sweep("a.b = 0.5 .. 2 /m").values.size() == 5);
  CHECK(parse_sweep("a.b = 0.5 .. 2 /m").unit == "/m");
  const auto list = parse_sweep("light.key.white = \"2700 K\", \"4000 K\"");
  CHECK(list.numbers == std::vector<double>{2700, 4000});
  CHECK(list.unit == "K");
  const auto places = parse_sweep("light.key.at = [0, 0, 1], [0, 0, 2]");
  CHECK(places.values == std::vector<std::string>{"[0, 0, 1]", "[0, 0, 2]"});
  CHECK(places.numbers.empty());
  for (const char* wrong : {"light.key.dimmer",
                            "= 1 .. 2",
                            "a.b = 1 .. ",
                            "a.b = 0 .. 1 / 1",
                            "a.b = 1 cm .. 2 m",
                            "a.b = 0 .. 1 / 3 log",
                            "a.b = 1,,2"}) {
    INFO(wrong);
    CHECK_THROWS_AS(parse_sweep(wrong), cli::UsageError);
  }
}
