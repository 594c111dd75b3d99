#pragma once

#include <cstdint>
#include <memory>
#include <string>
#include <vector>

namespace jovilux {

/// An animated WebP, written frame by frame and put in its place by finish(). All frames are of one
/// size, 8-bit sRGB. All functions throw MachineTrouble.
class WebpClip {
 public:
  /// Width and height at most 16383. It plays for ever.
  WebpClip(std::string path, int width, int height);
  ~WebpClip();
  WebpClip(const WebpClip&) = delete;
  WebpClip& operator=(const WebpClip&) = delete;

  /// rgb: row by row from the top, 3 bytes a pixel; shown from start_ms on.
  void add(const std::vector<std::uint8_t>& rgb, int start_ms);
  /// The last frame is shown until end_ms.
  void finish(int end_ms);

 private:
  struct Inside;
  std::unique_ptr<Inside> inside_;
};

/// The largest side of a WebP [pixels].
inline constexpr int kMostWebpSide = 16383;

}  // namespace jovilux
