#include "jovilux/files/exr.h"

#include "jovilux/base/assert.h"
#include "jovilux/base/parallel.h"
#include "jovilux/base/text.h"
#include "jovilux/files/atomic_file.h"

#include <algorithm>
#include <array>
#include <atomic>
#include <cmath>
#include <filesystem>
#include <fstream>
#include <thread>
#include <utility>

#include <ImfChannelList.h>
#include <ImfFloatAttribute.h>
#include <ImfFrameBuffer.h>
#include <ImfIO.h>
#include <ImfInputFile.h>
#include <ImfOutputFile.h>
#include <ImfStandardAttributes.h>
#include <ImfStringAttribute.h>
#include <ImfThreading.h>
#include <fmt/format.h>

namespace jovilux {
namespace {

// Of zlib. From level 4 on it looks for longer matches, which the noise of a picture does not have:
// files of the same size take a third longer to write.
constexpr int kZipLevel = 3;

namespace exr = OPENEXR_IMF_NAMESPACE;

// The library's output through AtomicFile, so that every failed write is seen.
class CheckedStream : public exr::OStream {
 public:
  explicit CheckedStream(AtomicFile& file) : exr::OStream(file.path().c_str()), file_(file) {}
  void write(const char data[], int size) override {
    file_.write(data, static_cast<std::size_t>(size));
  }
  std::uint64_t tellp() override { return file_.position(); }
  void seekp(std::uint64_t position) override { file_.seek(position); }

 private:
  AtomicFile& file_;
};

exr::PixelType pixel_type(ExrChannel::Type type) {
  return type == ExrChannel::Type::kHalf    ? exr::HALF
         : type == ExrChannel::Type::kFloat ? exr::FLOAT
                                            : exr::UINT;
}

std::atomic<int> wanted_threads{0};  // 0: all of the machine's

// The library's threads are the process's: they follow --threads, set before each use.
void use_threads() {
  const int wanted = wanted_threads > 0
                         ? wanted_threads.load()
                         : static_cast<int>(std::max(1U, std::thread::hardware_concurrency()));
  if (exr::globalThreadCount() != wanted) {
    exr::setGlobalThreadCount(wanted);
  }
}

}  // namespace

void limit_exr_threads(int threads) { wanted_threads = std::max(0, threads); }

int exr_threads() { return exr::globalThreadCount(); }

void add_rgb_channels(std::vector<ExrChannel>& channels,
                      const std::string& name,
                      const std::vector<float>& rgb,
                      int width) {
  const auto w = static_cast<std::size_t>(width);
  for (std::size_t c = 0; c < 3; ++c) {
    channels.push_back({name + "RGB"[c], ExrChannel::Type::kFloat, [&rgb, w, c](int y, float* out) {
                          for (std::size_t x = 0; x < w; ++x) {
                            out[x] = rgb[3 * (static_cast<std::size_t>(y) * w + x) + c];
                          }
                        }});
  }
}

namespace {

exr::Header header_of(const ExrHeader& info, const std::vector<ExrChannel>& channels) {
  exr::Header header(info.width, info.height);
  header.compression() = exr::ZIP_COMPRESSION;
  header.zipCompressionLevel() = kZipLevel;
  if (info.white_luminance > 0) {
    exr::addWhiteLuminance(header, static_cast<float>(info.white_luminance));
  }
  exr::addChromaticities(header, exr::Chromaticities());  // Rec.709 primaries, D65
  for (const auto& [name, text] : info.texts) {
    header.insert(name, exr::StringAttribute(text));
  }
  for (const auto& [name, number] : info.numbers) {
    header.insert(name, exr::FloatAttribute(number));
  }
  for (const ExrChannel& c : channels) {
    header.channels().insert(c.name, exr::Channel(pixel_type(c.type)));
  }
  return header;
}

// A band of rows of all channels, each in its own type.
class ExrBand {
 public:
  static constexpr int kRows = 64;

  ExrBand(const std::vector<ExrChannel>& channels, std::size_t width)
      : channels_(channels), width_(width), values_(channels.size()) {
    for (std::size_t c = 0; c < channels.size(); ++c) {
      Values& v = values_[c];
      v.rows.resize(width * kRows);
      v.halves.resize(channels[c].type == ExrChannel::Type::kHalf ? width * kRows : 0);
      v.indices.resize(channels[c].type == ExrChannel::Type::kIndex ? width * kRows : 0);
    }
  }

  // The picture's row `y`, as row `at` of the band, of all channels, which may share its work.
  void take_row(int y, std::size_t at) {
    for (std::size_t c = 0; c < channels_.size(); ++c) {
      Values& v = values_[c];
      float* const row = v.rows.data() + at * width_;
      channels_[c].row(y, row);
      if (!v.halves.empty()) {
        std::transform(row, row + width_, v.halves.data() + at * width_, [](float x) {
          return Imath::half(
              std::clamp(x, -static_cast<float>(HALF_MAX), static_cast<float>(HALF_MAX)));
        });
      } else if (!v.indices.empty()) {
        std::transform(row, row + width_, v.indices.data() + at * width_, [](float x) {
          return static_cast<std::uint32_t>(x);
        });
      }
    }
  }

  // Where the library finds the rows, the first of which is the picture's row `top`.
  exr::FrameBuffer frame(int top, int count) {
    exr::FrameBuffer out;
    const Imath::Box2i band(Imath::V2i(0, top),
                            Imath::V2i(static_cast<int>(width_) - 1, top + count - 1));
    for (std::size_t c = 0; c < channels_.size(); ++c) {
      Values& v = values_[c];
      const auto [data, size] =
          !v.halves.empty() ? std::pair<void*, std::size_t>(v.halves.data(), sizeof(Imath::half))
          : !v.indices.empty()
              ? std::pair<void*, std::size_t>(v.indices.data(), sizeof(std::uint32_t))
              : std::pair<void*, std::size_t>(v.rows.data(), sizeof(float));
      out.insert(channels_[c].name,
                 exr::Slice::Make(pixel_type(channels_[c].type), data, band, size, size * width_));
    }
    return out;
  }

 private:
  struct Values {
    std::vector<float> rows;
    std::vector<Imath::half> halves;     // of the type kHalf
    std::vector<std::uint32_t> indices;  // of the type kIndex
  };

  const std::vector<ExrChannel>& channels_;
  std::size_t width_;
  std::vector<Values> values_;
};

}  // namespace

void write_exr(const std::string& path,
               const ExrHeader& info,
               const std::vector<ExrChannel>& channels) {
  JOVILUX_ASSERT(info.width > 0 && info.height > 0 && !channels.empty());
  use_threads();
  const exr::Header header = header_of(info, channels);
  AtomicFile file(path);
  try {
    CheckedStream stream(file);
    exr::OutputFile out(stream, header);
    // Memory does not grow with the picture's height.
    ExrBand band(channels, static_cast<std::size_t>(info.width));
    for (int top = 0; top < info.height; top += ExrBand::kRows) {
      const int count = std::min(ExrBand::kRows, info.height - top);
      parallel_for(static_cast<std::size_t>(count),
                   [&](std::size_t y) { band.take_row(top + static_cast<int>(y), y); });
      out.setFrameBuffer(band.frame(top, count));
      out.writePixels(count);
      if (info.written) {
        info.written(top + count);
      }
    }
  } catch (const MachineTrouble&) {
    throw;
  } catch (const std::exception& e) {
    throw MachineTrouble(fmt::format("writing {}: {}", path, printable(e.what(), 200)));
  }
  file.commit();
}

struct ExrReader::Inside {
  std::string path;
  std::unique_ptr<exr::InputFile> file;
  ExrHeader header;
  bool has_white = false;
  std::vector<std::string> channels;
  Imath::Box2i window;  // of the pixels that are there
  Imath::V2i origin;    // of the picture: the display window's first pixel
};

ExrReader::ExrReader(std::unique_ptr<Inside> inside) : inside_(std::move(inside)) {}
ExrReader::ExrReader(ExrReader&&) noexcept = default;
ExrReader::~ExrReader() = default;
const ExrHeader& ExrReader::header() const { return inside_->header; }
bool ExrReader::is_cropped() const {
  const Imath::Box2i& there = inside_->window;
  return there.min.x > inside_->origin.x || there.min.y > inside_->origin.y ||
         there.max.x < inside_->origin.x + header().width - 1 ||
         there.max.y < inside_->origin.y + header().height - 1;
}
bool ExrReader::has_white_luminance() const { return inside_->has_white; }
const std::vector<std::string>& ExrReader::channels() const { return inside_->channels; }
bool ExrReader::has(const std::string& channel) const {
  return std::find(inside_->channels.begin(), inside_->channels.end(), channel) !=
         inside_->channels.end();
}

namespace {

// Whether a file begins with the magic number of OpenEXR.
bool is_exr(const std::string& path) {
  std::array<char, 4> magic{};
  std::ifstream in(path, std::ios::binary);
  return in.read(magic.data(), 4) && magic == std::array<char, 4>{0x76, 0x2f, 0x31, 0x01};
}

// The library reads a list of channels up to its own end, whatever its size is said to be: names,
// each with 16 bytes, and an empty one.
bool channels_end_at(std::istream& in, std::streamoff end) {
  constexpr std::streamoff kOfChannel = 16;
  for (std::string name; std::getline(in, name, '\0') && !name.empty();) {
    in.seekg(kOfChannel, std::ios::cur);
    if (!in || in.tellg() > end) {
      return false;
    }
  }
  return in && in.tellg() == end;
}

// Whether each attribute of the first header lies within the file: the library takes memory for
// what one claims. Layout: docs of OpenEXR, "OpenEXR File Layout".
bool attributes_fit(const std::string& path) {
  constexpr std::streamoff kMagicAndVersion = 8;
  constexpr std::size_t kLongestName = 256;
  std::ifstream in(path, std::ios::binary | std::ios::ate);
  const std::streamoff end = in.tellg();
  in.seekg(kMagicAndVersion);
  for (std::string name, type; std::getline(in, name, '\0') && !name.empty();) {
    std::array<unsigned char, 4> size{};
    if (name.size() > kLongestName || !std::getline(in, type, '\0') || type.size() > kLongestName ||
        !in.read(reinterpret_cast<char*>(size.data()), 4)) {
      return false;
    }
    const std::uint32_t claimed =
        size[0] | size[1] << 8 | size[2] << 16 | static_cast<std::uint32_t>(size[3]) << 24;
    if (static_cast<std::streamoff>(claimed) > end - in.tellg()) {
      return false;
    }
    const std::streamoff after = in.tellg() + static_cast<std::streamoff>(claimed);
    if (type == "chlist" && !channels_end_at(in, after)) {
      return false;
    }
    in.seekg(after);
  }
  return static_cast<bool>(in);
}

// Of all channels of one pixel, unpacked; subsampled channels (chroma) have a part of their own.
double pixel_bytes(const exr::Header& header) {
  double out = 0;
  for (auto it = header.channels().begin(); it != header.channels().end(); ++it) {
    const exr::Channel& channel = it.channel();
    out += (channel.type == exr::HALF ? 2.0 : 4.0) / (channel.xSampling * channel.ySampling);
  }
  return out;
}

// How many bytes one byte of a file becomes at most: deflate's longest repeat is 1032, and a
// run-length code's 64; the others have no bound that is known, and get a generous one.
double most_unpacked(exr::Compression compression) {
  switch (compression) {
    case exr::NO_COMPRESSION:
      return 1;
    case exr::RLE_COMPRESSION:
      return 64;
    case exr::ZIPS_COMPRESSION:
    case exr::ZIP_COMPRESSION:
    case exr::PXR24_COMPRESSION:
      return 1032;
    default:
      return 1 << 16;
  }
}

}  // namespace

Result<ExrReader> ExrReader::open(const std::string& path) {
  const auto fail = [&](std::string code, std::string text) {
    return Problem{Severity::kError, std::move(code), {path, 0, 0}, "", std::move(text), ""};
  };
  std::error_code ec;
  if (!std::filesystem::is_regular_file(path, ec)) {
    return fail("missing-file", "file not found");
  }
  if (is_exr(path) && !attributes_fit(path)) {
    return fail("bad-image", "damaged EXR: its header claims more than its bytes hold");
  }
  try {
    auto in = std::make_unique<Inside>();
    in->path = path;
    use_threads();
    in->file = std::make_unique<exr::InputFile>(path.c_str());
    const exr::Header& header = in->file->header();
    in->window = header.dataWindow();
    in->origin = header.displayWindow().min;
    const auto size = [](const Imath::Box2i& box) {
      return std::pair(static_cast<std::int64_t>(box.max.x) - box.min.x + 1,
                       static_cast<std::int64_t>(box.max.y) - box.min.y + 1);
    };
    const auto [w, h] = size(header.displayWindow());
    const auto [there_w, there_h] = size(in->window);
    for (const auto& [a, b] : {std::pair(w, h), std::pair(there_w, there_h)}) {
      if (a < 1 || b < 1 || a > 65536 || b > 65536) {
        return fail(
            "bad-image",
            fmt::format("a picture of {} x {} pixels; at most 65536 x 65536 are read", a, b));
      }
    }
    // Memory for a frame around a few pixels is not taken on a file's word.
    constexpr std::int64_t kMostFrame = 64, kAlways = 1 << 24;
    if (w * h > std::max(kAlways, kMostFrame * there_w * there_h)) {
      return fail("bad-image",
                  fmt::format("a picture of {} x {} pixels of which only {} x {} are there",
                              w,
                              h,
                              there_w,
                              there_h));
    }
    // Nor for pixels that its bytes cannot hold.
    const std::uintmax_t bytes = std::filesystem::file_size(path);
    if (pixel_bytes(header) * static_cast<double>(there_w * there_h) >
        most_unpacked(header.compression()) * static_cast<double>(bytes)) {
      return fail("bad-image",
                  fmt::format("damaged EXR: claims {} x {} pixels, more than its {} bytes hold",
                              there_w,
                              there_h,
                              bytes));
    }
    in->header.width = static_cast<int>(w);
    in->header.height = static_cast<int>(h);
    if (exr::hasWhiteLuminance(header)) {
      in->has_white = true;
      in->header.white_luminance = exr::whiteLuminance(header);
    }
    for (auto it = header.begin(); it != header.end(); ++it) {
      if (const auto* text = dynamic_cast<const exr::StringAttribute*>(&it.attribute())) {
        in->header.texts[it.name()] = text->value();
      } else if (const auto* number = dynamic_cast<const exr::FloatAttribute*>(&it.attribute())) {
        in->header.numbers[it.name()] = number->value();
      }
    }
    for (auto it = header.channels().begin(); it != header.channels().end(); ++it) {
      if (it.channel().xSampling == 1 && it.channel().ySampling == 1) {
        in->channels.emplace_back(it.name());
      }
    }
    return ExrReader(std::move(in));
  } catch (const std::exception& e) {
    return fail("bad-image", "not a readable EXR: " + printable(e.what(), 160));
  }
}

Result<std::vector<std::vector<float>>> ExrReader::read(
    const std::vector<std::string>& channels, int x, int y, int w, int h) const {
  JOVILUX_ASSERT(x >= 0 && y >= 0 && w > 0 && h > 0 && x + w <= header().width &&
                 y + h <= header().height);
  try {
    const Imath::Box2i& there = inside_->window;
    const auto width = static_cast<std::size_t>(there.max.x - there.min.x) + 1;
    // The columns asked for that the file holds; what it does not is 0.
    const int left = inside_->origin.x + x, first = std::max(left, there.min.x),
              last = std::min(left + w - 1, there.max.x);
    std::vector<std::vector<float>> out(channels.size(),
                                        std::vector<float>(static_cast<std::size_t>(w) * h));
    std::vector<float> rows(width * channels.size());
    for (int row = 0; row < h; ++row) {
      const int line = inside_->origin.y + y + row;
      if (line < there.min.y || line > there.max.y || first > last) {
        continue;
      }
      const Imath::Box2i band(Imath::V2i(inside_->window.min.x, line),
                              Imath::V2i(inside_->window.max.x, line));
      exr::FrameBuffer frame;
      for (std::size_t c = 0; c < channels.size(); ++c) {
        frame.insert(
            channels[c],
            exr::Slice::Make(
                exr::FLOAT, rows.data() + c * width, band, sizeof(float), sizeof(float) * width));
      }
      inside_->file->setFrameBuffer(frame);
      inside_->file->readPixels(line, line);
      for (std::size_t c = 0; c < channels.size(); ++c) {
        std::copy_n(rows.begin() + static_cast<std::ptrdiff_t>(c * width) + (first - there.min.x),
                    last - first + 1,
                    out[c].begin() + static_cast<std::ptrdiff_t>(row) * w + (first - left));
      }
    }
    return out;
  } catch (const std::exception& e) {
    return Problem{Severity::kError,
                   "bad-image",
                   {inside_->path, 0, 0},
                   "",
                   "the picture is damaged: " + printable(e.what(), 160),
                   "render it again"};
  }
}

}  // namespace jovilux
