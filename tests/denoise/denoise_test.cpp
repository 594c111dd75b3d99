#include "jovilux/denoise/denoise.h"

#include "jovilux/base/parallel.h"
#include "jovilux/base/sampler.h"
#include "jovilux/denoise/denoise_kernels.h"
#include "jovilux/denoise/picture_planes.h"

#include <catch2/catch.hpp>

using namespace jovilux;

namespace {

// The noise of one sample, of mean 0 and variance 1.
float deviate(Rng& rng) { return static_cast<float>(std::sqrt(12.0) * (rng.uniform() - 0.5)); }

/// A picture of one flat surface without noise: the truth that tests add noise to.
struct Scene {
  NoisyPicture picture;
  std::vector<float> truth;  ///< luminance

  Scene(int width, int height, std::size_t slots = 1) {
    picture.width = width;
    picture.height = height;
    picture.slots = slots;
    const std::size_t n = picture.pixels();
    picture.mean.assign(n * slots * 3, 0.0f);
    picture.halves.assign(n * slots * 3, 0.0f);
    picture.variance.assign(n, 0.0f);
    picture.half_variance = {std::vector<float>(n, 0.0f), std::vector<float>(n, 0.0f)};
    picture.albedo.assign(3 * n, 0.5f);
    picture.normal.assign(3 * n, 0.0f);
    for (std::size_t i = 0; i < n; ++i) {
      picture.normal[3 * i + 2] = 1;
    }
    picture.depth.assign(n, 2.0f);
    truth.assign(n, 0.0f);
  }

  // Gives a pixel a gray of this luminance, shared evenly by the slots, and noise of this standard
  // error, told as it is.
  void put(std::size_t pixel, float luminance, float error, Rng& rng) {
    truth[pixel] = luminance;
    const float a = std::sqrt(2.0f) * error * deviate(rng),
                b = std::sqrt(2.0f) * error * deviate(rng);
    const auto slots = static_cast<float>(picture.slots);
    for (std::size_t c = 0; c < 3 * picture.slots; ++c) {
      picture.mean[pixel * 3 * picture.slots + c] = (luminance + (a + b) / 2) / slots;
      picture.halves[pixel * 3 * picture.slots + c] = (a - b) / 2 / slots;
    }
    picture.variance[pixel] = error * error;
    picture.half_variance[0][pixel] = picture.half_variance[1][pixel] = 2 * error * error;
  }
};

double mean_squared_error(const std::vector<float>& mean,
                          const std::vector<float>& truth,
                          std::size_t slots = 1) {
  double sum = 0;
  for (std::size_t i = 0; i < truth.size(); ++i) {
    double green = 0;
    for (std::size_t s = 0; s < slots; ++s) {
      green += static_cast<double>(mean[(i * slots + s) * 3 + 1]);
    }
    sum += (green - static_cast<double>(truth[i])) * (green - static_cast<double>(truth[i]));
  }
  return sum / static_cast<double>(truth.size());
}

double mean_of(const std::vector<float>& v) {
  double sum = 0;
  for (const float x : v) {
    sum += static_cast<double>(x);
  }
  return sum / static_cast<double>(v.size());
}

}  // namespace

TEST_CASE("pictures without noise stay as they are: constant, ramp, fine pattern", "[denoise]") {
  Rng rng(1);
  const auto stays = [&](const std::function<float(int, int)>& luminance) {
    Scene s(70, 45);
    for (int y = 0; y < 45; ++y) {
      for (int x = 0; x < 70; ++x) {
        s.put(static_cast<std::size_t>(y * 70 + x), luminance(x, y), 0, rng);
      }
    }
    const DenoisedPicture out = denoise(s.picture);
    double worst = 0;
    for (std::size_t i = 0; i < s.truth.size(); ++i) {
      worst = std::max<double>(worst,
                               std::abs(out.mean[3 * i + 1] - s.truth[i]) / (s.truth[i] + 1e-3f));
    }
    CHECK(worst < 1e-4);
    CHECK(mean_of(out.error) < 1e-6);
    CHECK(out.outliers == 0);
  };
  stays([](int, int) { return 7.0f; });
  stays([](int x, int y) { return 1.0f + 0.02f * static_cast<float>(x + y); });
  stays([](int x, int y) { return (x + y) % 2 == 0 ? 3.0f : 5.0f; });
  stays([](int x, int) { return x < 30 ? 0.1f : 50.0f; });
}

TEST_CASE("an even wall becomes clean, keeps its level, and its error is told", "[denoise]") {
  Rng rng(2);
  Scene s(96, 64);
  for (std::size_t i = 0; i < s.truth.size(); ++i) {
    s.put(i, 10, 3, rng);
  }
  const DenoisedPicture out = denoise(s.picture);
  const double before = mean_squared_error(s.picture.mean, s.truth),
               after = mean_squared_error(out.mean, s.truth);
  CHECK(before == Approx(9).epsilon(0.1));
  CHECK(after < before / 30);
  CHECK(std::sqrt(mean_of(out.error) / after) < 1.5);
  CHECK(std::sqrt(mean_of(out.error) / after) > 1 / 1.5);
  double level = 0;
  for (std::size_t i = 0; i < s.truth.size(); ++i) {
    level += static_cast<double>(out.mean[3 * i + 1]) / static_cast<double>(s.truth.size());
  }
  CHECK(level == Approx(10).margin(5 * 3 / std::sqrt(96.0 * 64.0)));
}

TEST_CASE("the error of a calm part beside a noisy one is told, as that of the noisy one is",
          "[denoise]") {
  Rng rng(5);
  Scene s(128, 64);
  const auto is_calm = [](std::size_t i) { return i % 128 < 64; };
  for (std::size_t i = 0; i < s.truth.size(); ++i) {
    // Waves that no feature tells: both parts keep a bias.
    const float wave = std::sin(0.6f * static_cast<float>(i % 128));
    s.put(i, 10 + (is_calm(i) ? 0.3f : 3.0f) * wave, is_calm(i) ? 0.2f : 2.0f, rng);
  }
  const DenoisedPicture out = denoise(s.picture);
  for (const bool calm : {true, false}) {
    double told = 0, squares = 0, traced = 0;
    for (std::size_t i = 0; i < s.truth.size(); ++i) {
      if (is_calm(i) == calm) {
        const double off = static_cast<double>(out.mean[3 * i + 1] - s.truth[i]);
        squares += off * off;
        told += static_cast<double>(out.error[i]);
        traced += static_cast<double>(s.picture.variance[i]);
      }
    }
    INFO((calm ? "calm" : "noisy")
         << ": told " << told << ", true " << squares << ", as traced " << traced);
    CHECK(squares < 0.5 * traced);
    CHECK(std::sqrt(told / squares) < 1.5);
    CHECK(std::sqrt(told / squares) > 1 / 1.5);
  }
}

TEST_CASE("the variance that weights let through: a pixel, a pair, a mean, with correlated noise",
          "[denoise]") {
  constexpr auto kMiddle = static_cast<std::size_t>(kDenoiseOffsets / 2);
  Plane variances(20, 20);
  for (int y = 0; y < 20; ++y) {
    for (int x = 0; x < 20; ++x) {
      *variances.at(x, y) = 3;
    }
  }
  variances.fill_border();
  std::vector<float> weights(static_cast<std::size_t>(kDenoiseOffsets));
  const auto passed = [&](float correlation) {
    return variance_let_through(weights.data(), variances, correlation, 10, 10);
  };
  weights[kMiddle] = 1;
  CHECK(passed(0.2f) == Approx(3));
  // (v + v + 2 r v) / 4 side by side, (v + v + 2 r^2 v) / 4 at a corner.
  weights[kMiddle] = weights[kMiddle + 1] = 0.5f;
  CHECK(passed(0.2f) == Approx(3 * (2 + 2 * 0.2) / 4));
  weights[kMiddle + 1] = 0;
  weights[kMiddle + kDenoiseSide + 1] = 0.5f;
  CHECK(passed(0.2f) == Approx(3 * (2 + 2 * 0.04) / 4));
  // A window's mean: all but those at its border have eight around.
  weights.assign(weights.size(), 1.0f / kDenoiseOffsets);
  CHECK(passed(0) == Approx(3.0 / kDenoiseOffsets));
  const double along = kDenoiseSide + 2 * 0.2 * (kDenoiseSide - 1);
  CHECK(passed(0.2f) == Approx(3 * along * along / kDenoiseOffsets / kDenoiseOffsets));
}

TEST_CASE("noise that neighbors have in common is told as well", "[denoise]") {
  // White noise through a kernel that leaves neighbors a correlation of 1/4, as a tent does whose
  // samples are shared: a window of such pixels tells less than one of independent ones.
  constexpr int kWidth = 96, kHeight = 64;
  constexpr float kBeside = 0.129f, kScale = 1 / (1 + 2 * kBeside * kBeside);
  Rng rng(12);
  Scene white(kWidth + 2, kHeight + 2), s(kWidth, kHeight);
  for (std::size_t i = 0; i < white.truth.size(); ++i) {
    white.put(i, 0, 3, rng);
  }
  for (int y = 0; y < kHeight; ++y) {
    for (int x = 0; x < kWidth; ++x) {
      const auto i = static_cast<std::size_t>(y * kWidth + x);
      s.put(i, 10, 3, rng);  // its noise is replaced
      float mean = 0, half = 0;
      for (int k = 0; k < 9; ++k) {
        const auto o = static_cast<std::size_t>((y + k / 3) * (kWidth + 2) + x + k % 3);
        const float weight = kScale * (k / 3 == 1 ? 1 : kBeside) * (k % 3 == 1 ? 1 : kBeside);
        mean += weight * white.picture.mean[3 * o];
        half += weight * white.picture.halves[3 * o];
      }
      for (std::size_t c = 0; c < 3; ++c) {
        s.picture.mean[3 * i + c] = 10 + mean;
        s.picture.halves[3 * i + c] = half;
      }
    }
  }
  const DenoisedPicture out = denoise(s.picture);
  const double before = mean_squared_error(s.picture.mean, s.truth),
               after = mean_squared_error(out.mean, s.truth);
  CHECK(before == Approx(9).epsilon(0.15));
  CHECK(after < before / 15);
  INFO("told over true " << std::sqrt(mean_of(out.error) / after));
  CHECK(std::sqrt(mean_of(out.error) / after) < 1.4);
  CHECK(std::sqrt(mean_of(out.error) / after) > 1 / 1.4);
}

TEST_CASE("a step in a feature stays a step, and so does a shadow that no feature tells",
          "[denoise]") {
  Rng rng(3);
  for (const bool told : {true, false}) {
    Scene s(80, 60);
    for (int y = 0; y < 60; ++y) {
      for (int x = 0; x < 80; ++x) {
        const auto i = static_cast<std::size_t>(y * 80 + x);
        const bool bright = x >= 40;
        s.put(i, bright ? 8 : 2, bright ? 1.6f : 0.4f, rng);
        for (std::size_t c = 0; c < 3 && told; ++c) {
          s.picture.albedo[3 * i + c] = bright ? 0.8f : 0.2f;
        }
      }
    }
    const DenoisedPicture out = denoise(s.picture);
    CHECK(mean_squared_error(out.mean, s.truth) < mean_squared_error(s.picture.mean, s.truth) / 15);
    // Beside the edge, nothing of the other side's 6 comes over.
    for (const int x : {38, 39, 40, 41}) {
      double mean = 0, traced = 0;
      for (int y = 0; y < 60; ++y) {
        mean += static_cast<double>(out.mean[3 * (y * 80 + x) + 1]) / 60;
        traced += static_cast<double>(s.picture.mean[3 * (y * 80 + x) + 1]) / 60;
      }
      CHECK(mean == Approx(traced).margin(x < 40 ? 0.1 : 0.25));
    }
  }
}

TEST_CASE("slots are averaged alike: they add up, and levels scale them", "[denoise]") {
  Scene one(50, 40), two(50, 40, 2);
  Rng first(4), second(4);
  for (std::size_t i = 0; i < one.truth.size(); ++i) {
    const float level = 2 + static_cast<float>(i % 50) / 50;
    one.put(i, level, 0.5f, first);
    two.put(i, level, 0.5f, second);
    // The second light shines on a part of the picture only.
    for (std::size_t c = 0; c < 3 && i % 50 < 25; ++c) {
      two.picture.mean[6 * i + c] *= 2;
      two.picture.mean[6 * i + 3 + c] = 0;
      two.picture.halves[6 * i + c] *= 2;
      two.picture.halves[6 * i + 3 + c] = 0;
    }
  }
  const DenoisedPicture a = denoise(one.picture), b = denoise(two.picture);
  double worst = 0;
  for (std::size_t i = 0; i < one.truth.size(); ++i) {
    for (std::size_t c = 0; c < 3; ++c) {
      worst = std::max<double>(
          worst, std::abs(a.mean[3 * i + c] - b.mean[6 * i + c] - b.mean[6 * i + 3 + c]));
    }
  }
  CHECK(worst < 1e-4);
  // Four times the light gives four times the picture, within rounding, and sixteen times the
  // squared error.
  NoisyPicture brighter = two.picture;
  for (float& v : brighter.mean) {
    v *= 4;
  }
  for (float& v : brighter.halves) {
    v *= 4;
  }
  for (float& v : brighter.variance) {
    v *= 16;
  }
  for (std::vector<float>& half : brighter.half_variance) {
    for (float& v : half) {
      v *= 16;
    }
  }
  const DenoisedPicture c = denoise(std::move(brighter));
  bool scaled = true;
  for (std::size_t i = 0; i < c.mean.size(); ++i) {
    scaled = scaled && c.mean[i] == Approx(4 * b.mean[i]).epsilon(1e-5).margin(1e-6);
  }
  CHECK(scaled);
  CHECK(mean_of(c.error) == Approx(16 * mean_of(b.error)).epsilon(1e-4));
}

TEST_CASE("what one sample made bright is spread, and its energy is kept and told", "[denoise]") {
  Rng rng(5);
  Scene s(90, 70);
  for (std::size_t i = 0; i < s.truth.size(); ++i) {
    s.put(i, 4, 0.5f, rng);
  }
  double before = 0;
  for (const std::size_t i : {std::size_t{90 * 20 + 30}, std::size_t{90 * 50 + 61}}) {
    for (std::size_t c = 0; c < 3; ++c) {
      s.picture.mean[3 * i + c] = 204;
      s.picture.halves[3 * i + c] = 200;
    }
    s.picture.variance[i] = 200 * 200;
    s.picture.half_variance[0][i] = 400 * 400;
  }
  // A lamp, which both halves see, is none.
  const std::size_t lamp = 90 * 35 + 45;
  for (std::size_t c = 0; c < 3; ++c) {
    s.picture.mean[3 * lamp + c] = 1000;
    s.picture.halves[3 * lamp + c] = 1;
  }
  for (std::size_t i = 0; i < s.truth.size(); ++i) {
    before += static_cast<double>(s.picture.mean[3 * i + 1]);
  }
  const DenoisedPicture out = denoise(s.picture);
  double after = 0, most = 0;
  for (std::size_t i = 0; i < s.truth.size(); ++i) {
    const double v = static_cast<double>(out.mean[3 * i + 1]);
    after += v;
    most = i == lamp ? most : std::max(most, v);
  }
  CHECK(out.outliers == 2);
  CHECK(after == Approx(before).epsilon(2e-3));
  CHECK(most < 6);
  CHECK(out.mean[3 * lamp + 1] == Approx(1000).epsilon(0.01));
  CHECK(out.spread == Approx(400 / before).epsilon(0.05));
}

TEST_CASE("a firefly beside a highlight is lowered, and a highlight of both halves is not",
          "[denoise]") {
  Rng rng(9);
  Scene s(90, 70);
  for (std::size_t i = 0; i < s.truth.size(); ++i) {
    s.put(i, 4, 0.5f, rng);
  }
  // `half`: half the difference of the halves, each with its own standard error.
  const auto set = [&](std::size_t i, float mean, float half, float error0, float error1) {
    for (std::size_t c = 0; c < 3; ++c) {
      s.picture.mean[3 * i + c] = mean;
      s.picture.halves[3 * i + c] = half;
    }
    s.picture.half_variance[0][i] = error0 * error0;
    s.picture.half_variance[1][i] = error1 * error1;
    s.picture.variance[i] = (error0 * error0 + error1 * error1) / 4;
  };
  // Both halves see a highlight; one has met a firefly in the pixel beside it.
  const std::size_t highlight = 90 * 20 + 30, firefly = highlight + 1, other = 90 * 50 + 61;
  set(highlight, 20, 1, 1, 1);
  set(firefly, 504, 500, 1000, 1);
  // A highlight that halves of a few samples tell by up to a factor of two.
  set(other, 30, 9, 2, 2);
  const DenoisedPicture out = denoise(s.picture);
  CHECK(out.outliers == 1);
  CHECK(out.mean[3 * firefly + 1] < 30);
  CHECK(out.mean[3 * other + 1] == Approx(30).epsilon(0.1));
}

TEST_CASE("an image of a light that one half alone has met stays, and its surroundings get none",
          "[denoise]") {
  Rng rng(11);
  Scene s(70, 50);
  for (std::size_t i = 0; i < s.truth.size(); ++i) {
    s.put(i, 2, 0.1f, rng);
  }
  s.picture.seen.assign(s.truth.size(), 0.0f);
  // One sample of the left upper pixel has met the image, which four pixels have in common.
  const std::size_t first = 70 * 20 + 30;
  const std::vector<std::pair<std::size_t, float>> image = {
      {first, 60.0f}, {first + 1, 15.0f}, {first + 70, 15.0f}, {first + 71, 4.5f}};
  const auto set = [&](std::size_t i, float value) {
    for (std::size_t c = 0; c < 3; ++c) {
      s.picture.mean[3 * i + c] = value;
      s.picture.halves[3 * i + c] = value - 2;
    }
    s.picture.variance[i] = value * value;
    s.picture.half_variance[0][i] = 4 * value * value;
  };
  for (const auto& [i, value] : image) {
    set(i, value);
  }
  const std::size_t firefly = 70 * 35 + 50;
  set(firefly, 80);
  s.picture.seen[first] = 135;
  const DenoisedPicture out = denoise(s.picture);
  for (const auto& [i, value] : image) {
    INFO(i - first << ": " << value);
    CHECK(out.mean[3 * i + 1] == value);
    CHECK(out.error[i] == value * value);
  }
  double most = 0;
  for (int y = 14; y < 27; ++y) {
    for (int x = 24; x < 38; ++x) {
      const auto i = static_cast<std::size_t>(y * 70 + x);
      const bool is_image =
          std::any_of(image.begin(), image.end(), [&](const auto& p) { return p.first == i; });
      most = is_image ? most : std::max<double>(most, out.mean[3 * i + 1]);
    }
  }
  CHECK(most < 2.3);
  // What shows no light is a firefly.
  CHECK(out.outliers == 1);
  CHECK(out.mean[3 * firefly + 1] < 8);
}

TEST_CASE("denoising gives the same bits for 1, 2 and 3 threads", "[denoise]") {
  Rng rng(6);
  Scene s(75, 37, 2);
  for (std::size_t i = 0; i < s.truth.size(); ++i) {
    s.put(i, 1 + static_cast<float>(i % 75) / 10, i % 41 == 0 ? 9.0f : 0.4f, rng);
  }
  DenoisedPicture one;
  with_threads(1, [&] { one = denoise(s.picture); });
  for (const int threads : {2, 3}) {
    DenoisedPicture other;
    with_threads(threads, [&] { other = denoise(s.picture); });
    CHECK(one.mean == other.mean);
    CHECK(one.error == other.error);
  }
}

TEST_CASE("a lone sample and pictures of a pixel or of no light are taken", "[denoise]") {
  constexpr float kUnknown = std::numeric_limits<float>::infinity();
  Rng rng(7);
  Scene lone(40, 30);
  for (std::size_t i = 0; i < lone.truth.size(); ++i) {
    lone.put(i, 3, 1, rng);
    lone.picture.variance[i] = kUnknown;
    lone.picture.half_variance[0][i] = lone.picture.half_variance[1][i] = kUnknown;
    for (std::size_t c = 0; c < 3; ++c) {
      lone.picture.halves[3 * i + c] = 0;
    }
  }
  for (const float v : denoise(lone.picture).mean) {
    REQUIRE(std::isfinite(v));
  }
  Scene pixel(1, 1);
  pixel.put(0, 5, 0, rng);
  CHECK(denoise(pixel.picture).mean[1] == Approx(5));
  CHECK(denoise(Scene(20, 20).picture).mean[17] == 0);
  CHECK(denoise(Scene(9, 9, 0).picture).mean.empty());
}

namespace {

// A noisy picture with something of everything: two albedos, a shadow, a lamp, a step in depth.
Scene mixed(int width, int height) {
  Scene s(width, height);
  Rng rng(77);
  for (int y = 0; y < height; ++y) {
    for (int x = 0; x < width; ++x) {
      const auto i = static_cast<std::size_t>(y * width + x);
      const float albedo = x < width / 2 ? 0.3f : 0.7f, lit = y > height / 3 ? 10.0f : 2.5f;
      for (std::size_t c = 0; c < 3; ++c) {
        s.picture.albedo[3 * i + c] = albedo;
      }
      s.picture.depth[i] = x + y < width ? 2.0f : 5.0f;
      const bool lamp = x > 5 && x < 9 && y > 5 && y < 9;
      s.put(i, lamp ? 800.0f : albedo * lit, lamp ? 0.0f : 0.2f * albedo * lit, rng);
    }
  }
  return s;
}

// The same picture from right to left.
NoisyPicture mirrored(const NoisyPicture& of) {
  NoisyPicture out = of;
  const auto width = static_cast<std::size_t>(of.width);
  const auto mirror = [&](const std::vector<float>& from, std::vector<float>& to) {
    const std::size_t each = from.size() / of.pixels();
    for (std::size_t i = 0; i < of.pixels(); ++i) {
      const std::size_t other = i - i % width + (width - 1 - i % width);
      std::copy_n(from.begin() + static_cast<std::ptrdiff_t>(i * each),
                  each,
                  to.begin() + static_cast<std::ptrdiff_t>(other * each));
    }
  };
  mirror(of.mean, out.mean);
  mirror(of.halves, out.halves);
  mirror(of.variance, out.variance);
  mirror(of.half_variance[0], out.half_variance[0]);
  mirror(of.half_variance[1], out.half_variance[1]);
  mirror(of.albedo, out.albedo);
  mirror(of.normal, out.normal);
  mirror(of.depth, out.depth);
  return out;
}

}  // namespace

TEST_CASE("a picture from right to left is denoised from right to left", "[denoise]") {
  const Scene s = mixed(61, 37);  // no multiple of a block's size
  const DenoisedPicture plain = denoise(s.picture), turned = denoise(mirrored(s.picture));
  double worst = 0, worst_error = 0;
  for (std::size_t i = 0; i < s.picture.pixels(); ++i) {
    const std::size_t other = i - i % 61 + (60 - i % 61);
    worst = std::max<double>(
        worst,
        std::abs(plain.mean[3 * i + 1] - turned.mean[3 * other + 1]) / plain.mean[3 * i + 1]);
    worst_error = std::max<double>(
        worst_error, std::abs(plain.error[i] - turned.error[other]) / (plain.error[i] + 1e-3f));
  }
  CHECK(worst < 1e-3);
  CHECK(worst_error < 0.02);
}

TEST_CASE("halves that change places change nothing", "[denoise]") {
  const Scene s = mixed(64, 48);
  const DenoisedPicture plain = denoise(s.picture);
  NoisyPicture swapped = s.picture;
  for (float& h : swapped.halves) {
    h = -h;
  }
  std::swap(swapped.half_variance[0], swapped.half_variance[1]);
  const DenoisedPicture other = denoise(swapped);
  for (std::size_t i = 0; i < s.picture.pixels(); ++i) {
    REQUIRE(other.mean[3 * i + 1] == Approx(plain.mean[3 * i + 1]).epsilon(1e-4));
  }
}

TEST_CASE("beside a lamp the wall keeps its level, and the lamp its edge", "[denoise]") {
  const Scene s = mixed(64, 48);
  const DenoisedPicture out = denoise(s.picture);
  double wall = 0, wanted = 0;
  for (int y = 2; y < 13; ++y) {
    for (int x = 2; x < 13; ++x) {
      const auto i = static_cast<std::size_t>(y * 64 + x);
      INFO(x << ", " << y);
      if (x > 5 && x < 9 && y > 5 && y < 9) {
        CHECK(out.mean[3 * i + 1] == Approx(s.truth[i]).epsilon(1e-4));
        continue;
      }
      CHECK(out.mean[3 * i + 1] < 1.6f * s.truth[i]);  // no halo
      wall += static_cast<double>(out.mean[3 * i + 1]);
      wanted += static_cast<double>(s.truth[i]);
    }
  }
  CHECK(wall == Approx(wanted).epsilon(0.05));
  CHECK(mean_of(out.mean) == Approx(mean_of(s.picture.mean)).epsilon(0.01));
  CHECK(mean_squared_error(out.mean, s.truth) < 0.25 * mean_squared_error(s.picture.mean, s.truth));
}

TEST_CASE("planes repeat their outermost pixels, and box means are of what lies in the picture",
          "[denoise]") {
  const int width = 37, height = 21;
  Plane plane(width, height);
  Rng rng(8);
  for (int y = 0; y < height; ++y) {
    for (int x = 0; x < width; ++x) {
      *plane.at(x, y) = static_cast<float>(rng.uniform(0, 10));
    }
  }
  plane.fill_border();
  for (int y = -Plane::kPad; y < height + Plane::kPad; ++y) {
    for (int x = -Plane::kPad; x < width + Plane::kPad; ++x) {
      REQUIRE(*plane.at(x, y) ==
              *plane.at(std::clamp(x, 0, width - 1), std::clamp(y, 0, height - 1)));
    }
  }
  for (const int radius : {0, 1, 3}) {
    const Plane means = box_mean(plane, radius);
    for (int y = 0; y < height; ++y) {
      for (int x = 0; x < width; ++x) {
        double sum = 0;
        int count = 0;
        for (int v = std::max(0, y - radius); v <= std::min(height - 1, y + radius); ++v) {
          for (int u = std::max(0, x - radius); u <= std::min(width - 1, x + radius); ++u) {
            sum += static_cast<double>(*plane.at(u, v));
            ++count;
          }
        }
        REQUIRE(*means.at(x, y) == Approx(sum / count).epsilon(1e-5));
      }
    }
  }
  plane.fill_border(-1);
  CHECK(*plane.at(-1, 0) == -1);
  CHECK(*plane.at(width, height) == -1);
  CHECK(*plane.at(0, 0) >= 0);
}
