#include "jovilux/files/webp.h"

#include "jovilux/files/atomic_file.h"

#include <fmt/format.h>
#include <webp/encode.h>
#include <webp/mux.h>

namespace jovilux {
struct WebpClip::Inside {
  struct EncoderEnd {
    void operator()(WebPAnimEncoder* e) const { WebPAnimEncoderDelete(e); }
  };
  std::string path;
  int width = 0, height = 0;
  WebPConfig config{};
  std::unique_ptr<WebPAnimEncoder, EncoderEnd> encoder;

  [[noreturn]] void fail(const std::string& why) const {
    throw MachineTrouble(fmt::format("writing {}: {}", path, why));
  }
};

WebpClip::WebpClip(std::string path, int width, int height) : inside_(std::make_unique<Inside>()) {
  inside_->path = std::move(path);
  inside_->width = width;
  inside_->height = height;
  WebPAnimEncoderOptions options;
  if (!WebPAnimEncoderOptionsInit(&options) || !WebPConfigInit(&inside_->config)) {
    inside_->fail("libwebp of another version");
  }
  options.anim_params.loop_count = 0;
  inside_->config.quality = 85;
  inside_->config.method = 2;  // of 0 .. 6: more takes much longer for little
  inside_->encoder.reset(WebPAnimEncoderNew(width, height, &options));
  if (inside_->encoder == nullptr) {
    inside_->fail(fmt::format("a clip of {} x {} pixels cannot be made", width, height));
  }
}

WebpClip::~WebpClip() = default;

void WebpClip::add(const std::vector<std::uint8_t>& rgb, int start_ms) {
  WebPPicture picture;
  WebPPictureInit(&picture);
  picture.use_argb = 1;
  picture.width = inside_->width;
  picture.height = inside_->height;
  const bool good =
      WebPPictureImportRGB(&picture, rgb.data(), inside_->width * 3) != 0 &&
      WebPAnimEncoderAdd(inside_->encoder.get(), &picture, start_ms, &inside_->config) != 0;
  WebPPictureFree(&picture);
  if (!good) {
    inside_->fail(WebPAnimEncoderGetError(inside_->encoder.get()));
  }
}

void WebpClip::finish(int end_ms) {
  WebPData data;
  WebPDataInit(&data);
  if (WebPAnimEncoderAdd(inside_->encoder.get(), nullptr, end_ms, nullptr) == 0 ||
      WebPAnimEncoderAssemble(inside_->encoder.get(), &data) == 0) {
    inside_->fail(WebPAnimEncoderGetError(inside_->encoder.get()));
  }
  const std::string bytes(reinterpret_cast<const char*>(data.bytes), data.size);
  WebPDataClear(&data);
  write_text_file(inside_->path, bytes);
}

}  // namespace jovilux
