#include "jovilux/files/png.h"

#include "jovilux/base/assert.h"
#include "jovilux/files/atomic_file.h"

#include <algorithm>
#include <cstring>

#include <fmt/format.h>
#include <png.h>
#include <zlib.h>

namespace jovilux {
namespace {

// The library ends a fault by a jump unless its handler throws.
[[noreturn]] void on_error(png_structp, png_const_charp message) {
  throw MachineTrouble(std::string("png: ") + message);
}
void on_warning(png_structp, png_const_charp) {}
void on_write(png_structp png, png_bytep data, png_size_t size) {
  static_cast<AtomicFile*>(png_get_io_ptr(png))->write(data, size);
}
void on_flush(png_structp) {}

// The bytes of a PNG that are left to read.
struct BytesLeft {
  const char* next;
  std::size_t count;
};
void on_read(png_structp png, png_bytep to, png_size_t size) {
  auto* left = static_cast<BytesLeft*>(png_get_io_ptr(png));
  if (size > left->count) {
    png_error(png, "ends early");
  }
  std::memcpy(to, left->next, size);
  left->next += size;
  left->count -= size;
}

}  // namespace

void write_png(const std::string& path,
               int width,
               int height,
               const std::vector<std::uint8_t>& rgb,
               const std::map<std::string, std::string>& texts) {
  JOVILUX_ASSERT(rgb.size() == static_cast<std::size_t>(width) * height * 3);
  AtomicFile file(path);
  struct Writer {
    png_structp png = png_create_write_struct(PNG_LIBPNG_VER_STRING, nullptr, on_error, on_warning);
    png_infop info = png_create_info_struct(png);
    ~Writer() { png_destroy_write_struct(&png, &info); }
  } w;
  png_set_user_limits(w.png, 65536, 65536);
  png_set_write_fn(w.png, &file, on_write, on_flush);
  // Level 4 of 9: noise does not compress better at higher ones, which take longer.
  png_set_compression_level(w.png, 4);
  png_set_IHDR(w.png,
               w.info,
               static_cast<png_uint_32>(width),
               static_cast<png_uint_32>(height),
               8,
               PNG_COLOR_TYPE_RGB,
               PNG_INTERLACE_NONE,
               PNG_COMPRESSION_TYPE_DEFAULT,
               PNG_FILTER_TYPE_DEFAULT);
  png_set_sRGB_gAMA_and_cHRM(w.png, w.info, PNG_sRGB_INTENT_PERCEPTUAL);
  for (const auto& [key, value] : texts) {
    png_text text{};
    text.compression = PNG_TEXT_COMPRESSION_NONE;
    text.key = const_cast<char*>(key.c_str());
    text.text = const_cast<char*>(value.c_str());
    png_set_text(w.png, w.info, &text, 1);
  }
  png_write_info(w.png, w.info);
  for (int y = 0; y < height; ++y) {
    png_write_row(w.png, rgb.data() + static_cast<std::size_t>(y) * width * 3);
  }
  png_write_end(w.png, w.info);
  file.commit();
}

std::map<std::string, std::string> png_texts(const std::string& bytes) {
  // Limits for hostile files: texts are small, and few.
  constexpr png_alloc_size_t kMostBytes = 1 << 20;
  constexpr png_uint_32 kMostChunks = 100;
  std::map<std::string, std::string> out;
  BytesLeft left{bytes.data(), bytes.size()};
  struct Reader {
    png_structp png = png_create_read_struct(PNG_LIBPNG_VER_STRING, nullptr, on_error, on_warning);
    png_infop info = png_create_info_struct(png);
    ~Reader() { png_destroy_read_struct(&png, &info, nullptr); }
  } r;
  try {
    png_set_read_fn(r.png, &left, on_read);
    png_set_chunk_malloc_max(r.png, kMostBytes);
    png_set_chunk_cache_max(r.png, kMostChunks);
    png_read_info(r.png, r.info);
    png_textp texts = nullptr;
    int count = 0;
    png_get_text(r.png, r.info, &texts, &count);
    for (int i = 0; i < count; ++i) {
      out.emplace(texts[i].key, texts[i].text);
    }
  } catch (const MachineTrouble&) {
    return {};  // damaged: reading its picture says so
  }
  return out;
}

namespace {

std::uint32_t big_endian(const char* at) {
  std::uint32_t out = 0;
  for (int i = 0; i < 4; ++i) {
    out = out << 8 | static_cast<unsigned char>(at[i]);
  }
  return out;
}

constexpr std::size_t kSignature = 8, kAroundData = 12;  // of a PNG, and of each of its chunks

}  // namespace

bool png_chunks_fit(const std::string& bytes) {
  std::size_t at = kSignature;
  while (at < bytes.size()) {
    if (bytes.size() - at < kAroundData ||
        big_endian(bytes.data() + at) > bytes.size() - at - kAroundData) {
      return false;
    }
    if (bytes.compare(at + 4, 4, "IEND") == 0) {
      return true;
    }
    at += kAroundData + big_endian(bytes.data() + at);
  }
  return false;
}

// What the packed picture unpacks to, counted without keeping it.
std::uint64_t png_picture_bytes(const std::string& bytes) {
  constexpr std::size_t kScratch = 1 << 16;
  z_stream stream{};
  if (inflateInit(&stream) != Z_OK) {
    throw MachineTrouble("zlib: no memory");
  }
  std::vector<unsigned char> scratch(kScratch);
  int state = Z_OK;
  for (std::size_t at = kSignature; at + kAroundData <= bytes.size() && state == Z_OK;) {
    const std::uint32_t size = big_endian(bytes.data() + at);
    const std::size_t there = std::min<std::size_t>(size, bytes.size() - at - kAroundData + 4);
    if (bytes.compare(at + 4, 4, "IDAT") == 0) {
      stream.next_in = reinterpret_cast<unsigned char*>(const_cast<char*>(bytes.data() + at + 8));
      stream.avail_in = static_cast<unsigned>(there);
      while (state == Z_OK && (stream.avail_in > 0 || stream.avail_out == 0)) {
        stream.next_out = scratch.data();
        stream.avail_out = kScratch;
        state = inflate(&stream, Z_NO_FLUSH);
      }
    }
    at += there < size ? bytes.size() : kAroundData + size;
  }
  const std::uint64_t out = stream.total_out;
  inflateEnd(&stream);
  return out;
}

}  // namespace jovilux
