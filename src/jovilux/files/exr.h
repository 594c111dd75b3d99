#pragma once

#include "jovilux/base/problem.h"

#include <cstdint>
#include <functional>
#include <map>
#include <memory>
#include <string>
#include <vector>

namespace jovilux {

/// One channel of an EXR to be written. `row(y, out)` fills a row of width floats. Several threads
/// ask for rows at once, each for all channels of its row in turn. A kIndex channel holds whole
/// numbers up to 2^24. Values beyond 65504 are clamped in a kHalf channel.
struct ExrChannel {
  enum class Type { kHalf, kFloat, kIndex };
  std::string name;
  Type type = Type::kFloat;
  std::function<void(int y, float* out)> row;
};

/// Adds the channels NAME R, NAME G, NAME B of a picture of three floats a pixel, row by row from
/// the top, which must stay where it is; `name` such as "objects." or empty.
void add_rgb_channels(std::vector<ExrChannel>& channels,
                      const std::string& name,
                      const std::vector<float>& rgb,
                      int width);

/// What the header says besides the picture.
struct ExrHeader {
  int width = 0, height = 0;
  double white_luminance = 1;  ///< cd/m2 of (1, 1, 1); 0: the picture holds no luminances
  std::map<std::string, std::string> texts;
  std::map<std::string, float> numbers;
  /// Of a file to be written: called when so many rows from the top are done; may be empty.
  std::function<void(int rows)> written;
};

/// Writes a losslessly compressed scan line EXR with Rec.709 chromaticities, atomically; rows are
/// gathered and compressed by all threads. Throws MachineTrouble.
void write_exr(const std::string& path,
               const ExrHeader& header,
               const std::vector<ExrChannel>& channels);

/// An EXR open for reading. Damaged and hostile files give problems, never more memory than was
/// asked for.
class ExrReader {
 public:
  static Result<ExrReader> open(const std::string& path);
  ExrReader(ExrReader&&) noexcept;
  ~ExrReader();

  /// Width and height are those of the display window: where a cropped file has no pixels, read()
  /// gives 0.
  const ExrHeader& header() const;
  /// Whether the data window leaves out some of the display window.
  bool is_cropped() const;
  bool has_white_luminance() const;
  const std::vector<std::string>& channels() const;
  bool has(const std::string& channel) const;
  /// The named channels over the rectangle [x, x + w) x [y, y + h) of the picture, each w * h
  /// floats row by row.
  Result<std::vector<std::vector<float>>> read(
      const std::vector<std::string>& channels, int x, int y, int w, int h) const;

 private:
  struct Inside;
  explicit ExrReader(std::unique_ptr<Inside> inside);
  std::unique_ptr<Inside> inside_;
};

/// How many threads compress and decompress from the next file on; 0: all of the machine's.
void limit_exr_threads(int threads);
/// How many there are now.
int exr_threads();

}  // namespace jovilux
