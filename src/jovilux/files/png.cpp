#include "jovilux/files/png.h"

#include "jovilux/base/assert.h"
#include "jovilux/files/atomic_file.h"

#include <fmt/format.h>
#include <png.h>

namespace jovilux {
namespace {

[[noreturn]] void on_error(png_structp, png_const_charp message) {
  throw MachineTrouble(std::string("png: ") + message);
}
void on_warning(png_structp, png_const_charp) {}
void on_write(png_structp png, png_bytep data, png_size_t size) {
  static_cast<AtomicFile*>(png_get_io_ptr(png))->write(data, size);
}
void on_flush(png_structp) {}

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

}  // namespace jovilux
