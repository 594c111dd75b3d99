#include "jovilux/render/film.h"

#include "jovilux/base/box_sums.h"
#include "jovilux/base/statistics.h"
#include "jovilux/base/vec.h"
#include "jovilux/files/atomic_file.h"
#include "jovilux/render/fireflies.h"

#include <algorithm>
#include <cerrno>
#include <cmath>
#include <cstdlib>
#include <cstring>
#include <limits>
#include <numeric>
#include <string>

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/mman.h>
#include <unistd.h>

namespace jovilux {
namespace {

// A file of a folder without a name; where the file system has none of those (network file
// systems), one whose name is taken away at once. -1 with errno where neither can be had.
int unnamed_file(const std::string& folder) {
  const int file = ::open(folder.c_str(), O_TMPFILE | O_RDWR | O_CLOEXEC, 0600);
  if (file >= 0 || (errno != EOPNOTSUPP && errno != EISDIR && errno != ENOENT)) {
    return file;
  }
  std::string named = folder + "/jovilux-film-XXXXXX";
  const int plain = ::mkostemp(named.data(), O_CLOEXEC);
  if (plain >= 0) {
    ::unlink(named.c_str());
  }
  return plain;
}

}  // namespace

FilmMemory::FilmMemory(std::size_t bytes, bool in_file)
    : bytes_(std::max<std::size_t>(bytes, 1)), in_file_(in_file) {
  int file = -1;
  if (in_file) {
    const std::string folder = Film::file_folder();
    file = unnamed_file(folder);
    // Blocks are taken now: a write through the mapping that finds no room later would end the
    // process.
    const int trouble = file < 0 ? errno : ::posix_fallocate(file, 0, static_cast<off_t>(bytes_));
    if (trouble != 0) {
      if (file >= 0) {
        ::close(file);
      }
      throw MachineTrouble(fmt::format(
          "cannot keep a film of {:.1f} GB in {}: {}; name a folder with room in TMPDIR",
          static_cast<double>(bytes_) / 1e9,
          folder,
          std::strerror(trouble)));
    }
  }
  void* at = ::mmap(nullptr,
                    bytes_,
                    PROT_READ | PROT_WRITE,
                    in_file ? MAP_SHARED : MAP_PRIVATE | MAP_ANONYMOUS | MAP_NORESERVE,
                    file,
                    0);
  const int trouble = errno;
  if (file >= 0) {
    ::close(file);
  }
  if (at == MAP_FAILED) {
    throw MachineTrouble(fmt::format("cannot keep a film of {:.1f} GB: {}",
                                     static_cast<double>(bytes_) / 1e9,
                                     std::strerror(trouble)));
  }
  data_ = static_cast<std::byte*>(at);
}

FilmMemory::FilmMemory(const FilmMemory& o) : FilmMemory(o.bytes_, o.in_file_) {
  std::memcpy(data_, o.data_, bytes_);
}

FilmMemory::~FilmMemory() {
  if (data_ != nullptr) {
    ::munmap(data_, bytes_);
  }
}

Film::Film(int width, int height, int layers, int parts)
    : Film(width,
           height,
           layers,
           parts,
           memory_bytes(width, height, layers, parts) > most_in_memory()) {}

Film::Film(int width, int height, int layers, int parts, bool in_file)
    : width_(width),
      height_(height),
      layers_(layers),
      parts_(parts),
      across_(static_cast<std::size_t>((width + kTile - 1) / kTile)),
      per_pixel_(before_counts() + 3),
      memory_(across_ * static_cast<std::size_t>((height + kTile - 1) / kTile) * kTile * kTile *
                  per_pixel_ * 4,
              in_file) {}

double Film::memory_bytes(int width, int height, int layers, int parts) {
  return static_cast<double>(width) * height *
         (12.0 * kHalves * layers * parts + 4.0 * (kBatches + kGuides + 3));
}

std::string Film::file_folder() {
  const char* named = std::getenv("TMPDIR");
  return named != nullptr && *named != '\0' ? named : "/var/tmp";
}

// A third of the machine's memory: the scene and other programs need theirs.
double Film::most_in_memory() {
  return static_cast<double>(::sysconf(_SC_PHYS_PAGES)) *
         static_cast<double>(::sysconf(_SC_PAGESIZE)) / 3;
}

// Pages of finished tiles leave the memory early, so that a film larger than memory does not push
// out the scene.
void Film::rest(std::size_t first, std::size_t tiles) const {
  if (!in_file()) {
    return;
  }
  const std::size_t tile = static_cast<std::size_t>(kTile) * kTile * per_pixel_ * 4,
                    page = static_cast<std::size_t>(::sysconf(_SC_PAGESIZE));
  const std::size_t begin = first * tile / page * page;
  // Shared with the file: nothing is lost.
  ::madvise(memory_.data() + begin, (first + tiles) * tile - begin, MADV_DONTNEED);
}

Eigen::Vector3f Film::mean(std::size_t pixel) const {
  Eigen::Vector3f sum = Eigen::Vector3f::Zero();
  for (int slot = 0; slot < slots(); ++slot) {
    sum += slot_mean(pixel, slot);
  }
  return sum;
}

Eigen::Vector3f Film::slot_mean(std::size_t pixel, int slot) const {
  const std::uint32_t n = weight(pixel);
  const float* even = xyz(pixel) + slot * 3;
  const float* odd = even + slots() * 3;
  return n == 0 ? Eigen::Vector3f(0, 0, 0)
                : Eigen::Vector3f(even[0] + odd[0], even[1] + odd[1], even[2] + odd[2]) /
                      static_cast<float>(n);
}

std::uint32_t Film::half_weight(std::size_t pixel, int half) const {
  // Samples go to the halves in turn.
  const std::uint32_t n = weight(pixel);
  return half == 0 ? (n + 1) / 2 : n / 2;
}

Eigen::Vector3f Film::half_mean(std::size_t pixel, int half, int slot) const {
  const std::uint32_t n = half_weight(pixel, half);
  const float* v = xyz(pixel) + (half * slots() + slot) * 3;
  return n == 0 ? Eigen::Vector3f(0, 0, 0)
                : Eigen::Vector3f(v[0], v[1], v[2]) / static_cast<float>(n);
}

Eigen::Vector3f Film::half_difference(std::size_t pixel, int slot) const {
  return half_weight(pixel, 1) == 0
             ? Eigen::Vector3f(0, 0, 0)
             : Eigen::Vector3f((half_mean(pixel, 0, slot) - half_mean(pixel, 1, slot)) / 2);
}

float Film::seen(std::size_t pixel) const {
  const std::uint32_t n = taken(pixel);
  return n > 0 ? guide(pixel)[8] / static_cast<float>(n) : 0.0f;
}

float Film::luminance(std::size_t pixel) const {
  float sum = 0;
  for (int b = 0; b < kBatches; ++b) {
    sum += batch(pixel)[b];
  }
  return weight(pixel) == 0 ? 0 : sum / static_cast<float>(weight(pixel));
}

namespace {

// Variance of the mean of all samples, from the sums and counts of kBatches batches: the scatter of
// their means, weighted by their counts. Infinite where fewer than two have samples.
double variance_of_batches(const float* sums, const std::uint32_t* counts) {
  double n = 0, total = 0;
  for (int b = 0; b < kBatches; ++b) {
    n += counts[b];
    total += sums[b];
  }
  double scatter = 0, squares = 0;  // of w_b^2 (mean_b - mean)^2, of w_b^2
  int used = 0;
  for (int b = 0; b < kBatches; ++b) {
    if (counts[b] == 0) {
      continue;
    }
    const double w = counts[b] / n, d = sums[b] / static_cast<double>(counts[b]) - total / n;
    scatter += w * w * d * d;
    squares += w * w;
    ++used;
  }
  return used < 2 ? std::numeric_limits<double>::infinity() : scatter / (1 - squares);
}

}  // namespace

// n_a n_b / n^2 (mean_a - mean_b)^2, of two halves with n_a and n_b samples, expects the variance
// of the mean of all.
double variance_of_halves(const std::array<double, kHalves>& sums,
                          const std::array<double, kHalves>& counts) {
  if (!(counts[0] > 0) || !(counts[1] > 0)) {
    return std::numeric_limits<double>::infinity();
  }
  const double n = counts[0] + counts[1];
  return counts[0] / n * (counts[1] / n) * sqr(sums[0] / counts[0] - sums[1] / counts[1]);
}

float Film::variance_of_halves(std::size_t pixel) const {
  std::array<double, kHalves> sums{};
  for (std::size_t b = 0; b < kBatches; ++b) {
    sums[b % kHalves] += static_cast<double>(batch(pixel)[b]);
  }
  return static_cast<float>(jovilux::variance_of_halves(
      sums,
      {static_cast<double>(half_weight(pixel, 0)), static_cast<double>(half_weight(pixel, 1))}));
}

float Film::batch_variance(std::size_t pixel) const {
  double sum = 0;
  for (int half = 0; half < kHalves; ++half) {
    sum += sqr(static_cast<double>(half_weight(pixel, half)) / weight(pixel)) *
           static_cast<double>(half_batch_variance(pixel, half));
  }
  return static_cast<float>(sum);
}

float Film::half_batch_variance(std::size_t pixel, int half) const {
  std::array<std::uint32_t, kBatches> counts{};
  std::array<float, kBatches> sums{};  // the other half's stay 0
  const std::uint32_t n = weight(pixel);
  for (std::uint32_t b = static_cast<std::uint32_t>(half); b < kBatches; b += kHalves) {
    counts[b] = n / kBatches + (b < n % kBatches ? 1 : 0);
    sums[b] = batch(pixel)[b];
  }
  return static_cast<float>(variance_of_batches(sums.data(), counts.data()));
}

namespace {

// The ratio of unbiased variances to those of batches, from their sums and the sum of the latter's
// squares. Where one pixel holds most of the variance, the difference of its two halves alone would
// decide, and may be next to nothing by chance: four pixels more speak for `prior`.
double ratio_of_windows(double of_halves, double of_batches, double squares, double prior) {
  // Pixels side by side may have samples in common (SharedSamples): so many tell as much as one.
  constexpr double kInARow = 1 + 2 * kTentCorrelation, kPriorPixels = 4,
                   kCorrelated = kInARow * kInARow;
  if (!(squares > 0)) {
    return prior;
  }
  // As so many pixels of equal variance.
  const double equal = of_batches * of_batches / squares / kCorrelated;
  return (equal * of_halves / of_batches + kPriorPixels * prior) / (equal + kPriorPixels);
}

}  // namespace

FilmVariance film_variance(const Film& film) {
  constexpr int kReach = 4;
  FilmVariance out;
  out.whole.resize(film.pixels());
  std::vector<float> of_halves(film.pixels()), of_batches(film.pixels()), squares(film.pixels());
  each_pixel(film, [&](std::size_t i) {
    of_batches[i] = film.batch_variance(i);
    of_halves[i] = film.variance_of_halves(i);
    const bool has_batches = std::isfinite(of_batches[i]);
    out.whole[i] = has_batches ? of_batches[i] : of_halves[i];
    if (!has_batches) {
      of_batches[i] = of_halves[i] = 0;
    }
  });
  // Scaled to the largest, so that squares of dim pictures do not underflow.
  const float most = std::max(*std::max_element(of_batches.begin(), of_batches.end()),
                              std::numeric_limits<float>::min());
  for (std::size_t i = 0; i < squares.size(); ++i) {
    of_batches[i] /= most;  // their squares are floats as well
    of_halves[i] /= most;
    squares[i] = sqr(of_batches[i]);
  }
  const auto sum = [](const std::vector<float>& v) {
    return std::accumulate(v.begin(), v.end(), 0.0);
  };
  const double anywhere = ratio_of_windows(sum(of_halves), sum(of_batches), sum(squares), 1);
  for (std::vector<float>* v : {&of_halves, &of_batches, &squares}) {
    box_sums(film.width(), film.height(), kReach, *v);
  }
  for (std::vector<float>& half : out.half) {
    half.resize(film.pixels());
  }
  each_pixel(film, [&](std::size_t i) {
    const bool has_batches = std::isfinite(film.batch_variance(i));
    const auto ratio = static_cast<float>(
        has_batches ? ratio_of_windows(of_halves[i], of_batches[i], squares[i], anywhere) : 1.0);
    out.whole[i] *= ratio;
    for (int h = 0; h < kHalves; ++h) {
      out.half[static_cast<std::size_t>(h)][i] = ratio * film.half_batch_variance(i, h);
    }
  });
  return out;
}

namespace {

// Relative to the level, but not below a share of white: nobody sees noise in black.
std::vector<float> relative_noise(const Film& film, double white, std::vector<float> variance) {
  const double floor = std::max(kNoiseFloor * white, 1e-12);
  each_pixel(film, [&](std::size_t i) {
    variance[i] =
        static_cast<float>(std::sqrt(variance[i]) / std::max<double>(film.luminance(i), floor));
  });
  return variance;
}

}  // namespace

std::vector<float> noise_of_pixels(const Film& film, double white) {
  return relative_noise(film, white, film_variance(film).whole);
}

std::vector<float> own_noise_of_pixels(const Film& film, double white) {
  std::vector<float> variance(film.pixels());
  each_pixel(film, [&](std::size_t i) { variance[i] = film.variance_of_halves(i); });
  return relative_noise(film, white, std::move(variance));
}

NoiseFigures noise_figures(const Film& film, double white, bool sampled_only) {
  NoiseFigures out;
  const std::size_t count = film.pixels();
  std::vector<float> noise = noise_of_pixels(film, white), luminance(count);
  const double floor = std::max(kNoiseFloor * white, 1e-12);
  each_pixel(film, [&](std::size_t i) { luminance[i] = film.luminance(i); });
  each_firefly(
      film.width(),
      film.height(),
      floor,
      [&](int x, int y) { return static_cast<double>(luminance[film.pixel(x, y)]); },
      [&](int x, int y) { return static_cast<double>(noise[film.pixel(x, y)]); },
      [&](int, int) { ++out.fireflies; });
  if (sampled_only) {
    std::size_t kept = 0;
    for (std::size_t i = 0; i < count; ++i) {
      if (film.taken(i) > 0) {
        noise[kept++] = noise[i];
      }
    }
    noise.resize(kept);
  }
  out.median = static_cast<double>(percentile(noise, 0.5));
  out.p95 = static_cast<double>(percentile(noise, 0.95));
  return out;
}

}  // namespace jovilux
