#pragma once

#include "jovilux/transport/part.h"

#include <Eigen/Core>
#include <array>
#include <cstddef>
#include <cstdint>
#include <string>
#include <utility>
#include <vector>

namespace jovilux {

/// A pixel's samples come from two sequences, scrambled independently of each other: sample i is
/// point i / kHalves of sequence i mod kHalves. The means of the two halves are independent, so
/// that their difference tells the error of their mean without bias.
inline constexpr int kHalves = 2;
/// Each half is divided into batches of samples that follow each other: batch b is of half
/// b mod kHalves. A batch is spread less evenly than its half, so that the scatter of the batches
/// is an upper bound of the variance in the mean; see film_variance().
inline constexpr int kBatches = 8;

/// The batch of sample `i` in a pass of `count` samples that begins with sample `begin`. Whole
/// multiples of kBatches go to the batches in equal runs, the rest to one batch after the other.
/// Whatever the passes were, n samples leave n / kBatches in each batch, and one more in the first
/// n mod kBatches.
constexpr int batch_of(int i, int begin, int count) {
  const int even = count / kBatches * kBatches;
  return i - begin < even ? i % kHalves + (i - begin) / kHalves / (even / kBatches) * kHalves
                          : i % kBatches;
}

/// Pictures are rendered, kept and shared out in squares of this side [pixels].
inline constexpr int kTile = 16;

/// Zeros to begin with: in memory, or in a file of the folder for temporary files ($TMPDIR, else
/// /var/tmp), which has no
/// name and goes with the process; the system then keeps in memory what it has room for. Throws
/// MachineTrouble where there is no room.
class FilmMemory {
 public:
  explicit FilmMemory(std::size_t bytes, bool in_file);
  FilmMemory(const FilmMemory& o);
  FilmMemory(FilmMemory&& o) noexcept
      : data_(std::exchange(o.data_, nullptr)),
        bytes_(std::exchange(o.bytes_, 0)),
        in_file_(o.in_file_) {}
  FilmMemory& operator=(FilmMemory o) noexcept {
    std::swap(data_, o.data_);
    std::swap(bytes_, o.bytes_);
    std::swap(in_file_, o.in_file_);
    return *this;
  }
  ~FilmMemory();

  std::byte* data() const { return data_; }
  bool in_file() const { return in_file_; }

 private:
  std::byte* data_ = nullptr;
  std::size_t bytes_ = 0;
  bool in_file_ = false;
};

/// The sums that a render gathers, in absolute CIE XYZ (Y in cd/m2).
///
///     slot        a layer (a light), or a part of one: layer * parts + part
///     xyz         weighted sums over the samples of each half, [pixel][kHalves][slot][3]:
///                 independent of each other but for what keeps an even picture even, from which
///                 the denoiser tells its error. Samples of neighbors count (SharedSamples)
///     batch       weighted sum of the whole Y of the samples of each batch, [pixel][kBatches]: of
///                 a half they add up to its Y
///     weight      what the sums are to be divided by, [pixel]: the samples taken; toward a noise
///                 target, the sum of the rounds' weights, whatever number of samples each gave
///                 this pixel
///     taken       how many samples there were, [pixel]
///     guide       sums over the first kGuideSamples samples: albedo RGB, normal XYZ, depth, and
///                 how many met something; over all of the pixel's own samples: luminance of the
///                 lights that are seen in it, directly or as images (LightSink::seen())
///
/// Kept in tiles, each in one piece; in a tile, each of these for its pixels row by row. A picture
/// larger than a third of the machine's memory is kept in a file.
class Film {
 public:
  /// parts: 1, kParts or kPartsWithHaze. layers may be 0: a picture of nothing but dark.
  Film(int width, int height, int layers, int parts);
  Film(int width, int height, int layers, int parts, bool in_file);

  /// Samples that albedo, normal and depth are averaged over.
  static constexpr int kGuideSamples = 16;
  static constexpr int kGuides = 9;

  int width() const { return width_; }
  int height() const { return height_; }
  int layers() const { return layers_; }
  int parts() const { return parts_; }
  int slots() const { return layers_ * parts_; }
  std::size_t pixels() const { return static_cast<std::size_t>(width_) * height_; }
  std::size_t pixel(int x, int y) const { return static_cast<std::size_t>(y) * width_ + x; }

  /// Neighbors along a row of a tile follow each other in each of these.
  float* xyz(std::size_t pixel) { return of<float>(pixel, 0, before_batch()); }
  const float* xyz(std::size_t pixel) const { return of<float>(pixel, 0, before_batch()); }
  float* batch(std::size_t pixel) { return of<float>(pixel, before_batch(), kBatches); }
  const float* batch(std::size_t pixel) const { return of<float>(pixel, before_batch(), kBatches); }
  float* guide(std::size_t pixel) { return of<float>(pixel, before_batch() + kBatches, kGuides); }
  const float* guide(std::size_t pixel) const {
    return of<float>(pixel, before_batch() + kBatches, kGuides);
  }
  std::uint32_t& weight(std::size_t pixel) { return *of<std::uint32_t>(pixel, before_counts(), 1); }
  std::uint32_t weight(std::size_t pixel) const {
    return *of<std::uint32_t>(pixel, before_counts(), 1);
  }
  std::uint32_t& taken(std::size_t pixel) {
    return *of<std::uint32_t>(pixel, before_counts() + 1, 1);
  }
  std::uint32_t taken(std::size_t pixel) const {
    return *of<std::uint32_t>(pixel, before_counts() + 1, 1);
  }
  std::uint32_t& object(std::size_t pixel) {
    return *of<std::uint32_t>(pixel, before_counts() + 2, 1);
  }
  std::uint32_t object(std::size_t pixel) const {
    return *of<std::uint32_t>(pixel, before_counts() + 2, 1);
  }

  /// Mean luminance of the lights that are seen in a pixel, by its own samples [cd/m2].
  float seen(std::size_t pixel) const;
  /// Mean XYZ of a pixel, all slots together; 0 without samples.
  Eigen::Vector3f mean(std::size_t pixel) const;
  /// Mean XYZ of one slot of a pixel; 0 without samples.
  Eigen::Vector3f slot_mean(std::size_t pixel, int slot) const;
  /// The same of the samples of one half: 0 or 1.
  Eigen::Vector3f half_mean(std::size_t pixel, int half, int slot) const;
  /// Half the difference of the two halves' means: they are slot_mean plus and minus it. 0 where
  /// the second has no sample.
  Eigen::Vector3f half_difference(std::size_t pixel, int slot) const;
  /// What the sums of one half are to be divided by.
  std::uint32_t half_weight(std::size_t pixel, int half) const;
  /// Mean luminance of a pixel [cd/m2].
  float luminance(std::size_t pixel) const;
  /// Variance of the mean luminance [(cd/m2)^2] from the difference of the halves: unbiased, with
  /// one degree of freedom; infinite where a half has no sample.
  float variance_of_halves(std::size_t pixel) const;
  /// The same from the scatter of the batches in their halves: not below the true one in the mean,
  /// with six degrees of freedom; infinite where a half has fewer than two batches.
  float batch_variance(std::size_t pixel) const;
  /// Of the mean of one half, from its own batches only; infinite for fewer than two.
  float half_batch_variance(std::size_t pixel, int half) const;

  bool in_file() const { return memory_.in_file(); }
  /// Of a film in a file: the memory of the tiles from `first` on is free for others until they are
  /// used again; what they hold stays in the file. Of any thread, at any time.
  void rest(std::size_t first, std::size_t tiles) const;
  std::size_t tiles_across() const { return across_; }

  /// Bytes that a film of this kind takes.
  static double memory_bytes(int width, int height, int layers, int parts);
  /// Bytes of memory beyond which a film is kept in a file.
  static double most_in_memory();
  /// The folder that such files go to.
  static std::string file_folder();

 private:
  // Numbers of four bytes that come before these in a tile, for each of its pixels.
  std::size_t before_batch() const { return static_cast<std::size_t>(slots()) * 3 * kHalves; }
  std::size_t before_counts() const { return before_batch() + kBatches + kGuides; }
  // The `each` numbers of a pixel that follow `before` in its tile.
  template <class T>
  T* of(std::size_t pixel, std::size_t before, std::size_t each) const {
    constexpr std::size_t kArea = static_cast<std::size_t>(kTile) * kTile;
    const std::size_t x = pixel % static_cast<std::size_t>(width_),
                      y = pixel / static_cast<std::size_t>(width_);
    const std::size_t tile = y / kTile * across_ + x / kTile,
                      in_tile = y % kTile * kTile + x % kTile;
    return reinterpret_cast<T*>(memory_.data()) + (tile * per_pixel_ + before) * kArea +
           in_tile * each;
  }

  int width_, height_, layers_, parts_;
  std::size_t across_, per_pixel_;  // tiles in a row; numbers of four bytes
  FilmMemory memory_;
};

/// Calls body(pixel) for all pixels row by row; a film in a file rests where that is done.
template <class Body>
void each_pixel(const Film& film, const Body& body) {
  for (int y = 0; y < film.height(); ++y) {
    for (int x = 0; x < film.width(); ++x) {
      body(film.pixel(x, y));
    }
    if (y % kTile == kTile - 1) {
      film.rest(static_cast<std::size_t>(y / kTile) * film.tiles_across(), film.tiles_across());
    }
  }
}

/// Variance of the mean of all samples from the sums and counts of the two halves: unbiased, with
/// one degree of freedom; infinite where a half has no sample.
double variance_of_halves(const std::array<double, kHalves>& sums,
                          const std::array<double, kHalves>& counts);

/// Variances of the mean luminance of a film's pixels [(cd/m2)^2], [pixel]; infinite where a pixel
/// has too few samples.
struct FilmVariance {
  std::vector<float> whole;                      ///< of all samples
  std::array<std::vector<float>, kHalves> half;  ///< of each half alone
};
/// The scatter of a pixel's batches, times the ratio by which the differences of the halves within
/// 9 x 9 pixels are less than the batches there would have them be. A window tells so many ratios
/// n = (sum V)^2 / sum V^2 (Kish's effective number of its variances V); the estimate is their mean
/// with four more of the whole picture's ratio, which noisy pixels decide, so that it
/// rather errs towards more noise.
/// Source: L. Kish, "Survey Sampling", 1965 (effective sample size).
FilmVariance film_variance(const Film& film);

/// The noise of a picture: of each pixel, its standard error over the larger of its luminance and 2
/// % of `white`
/// (the luminance that the look shows as white).
struct NoiseFigures {
  double median = 0, p95 = 0;
  /// Pixels that one sample has made bright: three times the median of their neighbours, above that
  /// floor, and with a standard error of half their own luminance or more.
  std::uint64_t fireflies = 0;
};
/// Of all pixels; with `sampled_only` the percentiles are of those that have samples, as of one
/// share of a picture.
NoiseFigures noise_figures(const Film& film, double white_cd_m2, bool sampled_only = false);

/// What is dark is judged against this share of the white.
inline constexpr double kNoiseFloor = 0.02;
/// Each pixel's standard error over the larger of its luminance and that floor.
std::vector<float> noise_of_pixels(const Film& film, double white_cd_m2);
/// The same by variance_of_halves(): uncertain for one pixel, but made from no other one.
std::vector<float> own_noise_of_pixels(const Film& film, double white_cd_m2);

}  // namespace jovilux
