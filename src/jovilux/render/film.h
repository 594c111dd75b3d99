#pragma once

#include <array>
#include <cstdint>
#include <vector>

#include <Eigen/Core>

namespace jovilux {

/// How many independent scramblings share a pixel's samples: sample i belongs to scrambling i mod kScramblings. Their
/// means are independent, which is what makes the standard error of low-discrepancy samples known.
inline constexpr int kScramblings = 8;

/// What of a light a contribution is: seen or after one scattering; after more; after more, and a mirror or gloss on which it fell threw it
/// on a surface that is no mirror; or on a path that haze scattered.
enum class Part : std::uint8_t { kDirect, kBounce, kCaustic, kHaze };
inline constexpr std::array<const char*, 4> kPartNames = {"direct", "bounce", "caustic", "haze"};
/// How many of them a picture without haze has, and one with haze.
inline constexpr int kParts = 3, kPartsWithHaze = 4;

/// The sums that a render gathers, in absolute CIE XYZ (Y in cd/m2).
///
///     slot        a layer (a light), or a part of one: layer * parts + part
///     xyz         weighted sum over samples, [pixel][slot][3]
///     batch       weighted sum of the whole Y of the samples of each scrambling, [pixel][kScramblings]
///     weight      what the sums are to be divided by, [pixel]: the samples taken, where all pixels take as many; else the
///                 sum of the weights of the rounds, whatever number of samples each gave this pixel
///     taken       how many samples there were, [pixel]
///     guide       sums over the first guide_count samples: albedo RGB, normal XYZ, depth, and how many met something
class Film {
 public:
  /// parts: 1, kParts or kPartsWithHaze. layers may be 0: a picture of nothing but dark.
  Film(int width, int height, int layers, int parts);

  static constexpr int kGuideSamples = 16;  ///< samples that albedo, normal and depth are averaged over
  static constexpr int kGuides = 8;

  int width() const { return width_; }
  int height() const { return height_; }
  int layers() const { return layers_; }
  int parts() const { return parts_; }
  int slots() const { return layers_ * parts_; }
  std::size_t pixels() const { return static_cast<std::size_t>(width_) * height_; }
  std::size_t pixel(int x, int y) const { return static_cast<std::size_t>(y) * width_ + x; }

  float* xyz(std::size_t pixel) { return xyz_.data() + pixel * slots() * 3; }
  const float* xyz(std::size_t pixel) const { return xyz_.data() + pixel * slots() * 3; }
  float* batch(std::size_t pixel) { return batch_.data() + pixel * kScramblings; }
  const float* batch(std::size_t pixel) const { return batch_.data() + pixel * kScramblings; }
  float* guide(std::size_t pixel) { return guide_.data() + pixel * kGuides; }
  const float* guide(std::size_t pixel) const { return guide_.data() + pixel * kGuides; }
  std::uint32_t& weight(std::size_t pixel) { return weight_[pixel]; }
  std::uint32_t weight(std::size_t pixel) const { return weight_[pixel]; }
  std::uint32_t& taken(std::size_t pixel) { return taken_[pixel]; }
  std::uint32_t taken(std::size_t pixel) const { return taken_[pixel]; }
  std::uint32_t& object(std::size_t pixel) { return object_[pixel]; }
  std::uint32_t object(std::size_t pixel) const { return object_[pixel]; }

  /// Mean XYZ of one slot of a pixel; 0 without samples.
  Eigen::Vector3f slot_mean(std::size_t pixel, int slot) const;
  /// Mean luminance of a pixel [cd/m2].
  float luminance(std::size_t pixel) const;
  /// Variance of the mean luminance [(cd/m2)^2], from the scatter of the scramblings; infinite for fewer than two.
  float variance(std::size_t pixel) const;

  /// Bytes that a film of this kind takes.
  static double memory_bytes(int width, int height, int layers, int parts);

 private:
  int width_, height_, layers_, parts_;
  std::vector<float> xyz_, batch_, guide_;
  std::vector<std::uint32_t> weight_, taken_, object_;
};

/// Variance of the mean of all samples, from the sums and counts of kScramblings independent scramblings: the scatter
/// of their means, weighted by their counts. Infinite where fewer than two have samples.
double variance_of_mean(const float* sums, const std::uint32_t* counts);

/// The noise of a picture: of each pixel, its standard error over the larger of its luminance and 2 % of `white`
/// (the luminance that the look shows as white).
struct NoiseFigures {
  double median = 0, p95 = 0;
  /// Pixels that one sample has made bright: three times the median of their neighbours, above that floor, and with a
  /// standard error of half their own luminance or more.
  std::uint64_t fireflies = 0;
};
NoiseFigures noise_figures(const Film& film, double white_cd_m2);

/// What is dark is judged against this share of the white.
inline constexpr double kNoiseFloor = 0.02;
/// Each pixel's standard error over the larger of its luminance and that floor.
std::vector<float> noise_of_pixels(const Film& film, double white_cd_m2);

}  // namespace jovilux
