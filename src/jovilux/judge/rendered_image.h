#pragma once

#include "jovilux/base/problem.h"
#include "jovilux/files/exr.h"
#include "jovilux/render/view.h"

#include <optional>
#include <string>
#include <vector>

namespace jovilux {

/// The look that one of our pictures was rendered to be seen with.
struct RecordedLook {
  View view;
  double bloom = 0;
  std::string rig_text;  ///< the resolved rig
};
/// The view of a [look] with an exposure in EV, as look_text() writes it; nothing where it is not
/// that.
std::optional<View> view_of_look(const std::string& text);

/// From the rig and the exposure in the header of `file`, from whose folder the rig names files;
/// nothing where they are not there.
std::optional<RecordedLook> recorded_look(const ExrHeader& header, const std::string& file);

/// A picture to judge, whole in memory: ours with its layers and variance, or one from elsewhere.
struct RenderedImage {
  // Defined in one source, so that copying it is compiled once.
  RenderedImage();
  RenderedImage(const RenderedImage&);
  RenderedImage(RenderedImage&&) noexcept;
  RenderedImage& operator=(const RenderedImage&);
  RenderedImage& operator=(RenderedImage&&) noexcept;
  ~RenderedImage();

  int width = 0, height = 0;
  bool absolute = false;  ///< its numbers are cd/m2
  /// Linear Rec.709 [cd/m2 where absolute], 3 a pixel, rows from the top.
  std::vector<float> rgb;
  /// The first pixel whose file holds a value that is not finite, which counts as 0 here.
  std::optional<std::size_t> not_finite;
  bool denoised = false;  ///< made by denoise: its variance is the squared error that it tells
  /// Of the mean luminance [(cd/m2)^2], one a pixel; empty where not told.
  std::vector<float> variance;
  std::vector<float> samples;  ///< that each pixel took; empty where all took as many
  struct Layer {
    std::string name;  ///< "pendant", or of a part "pendant.haze"
    std::vector<float> rgb;
    std::vector<float> half_difference;  ///< as that of the picture
  };
  std::vector<Layer> layers;  ///< of lights, without their parts; their sum is the picture
  std::vector<Layer> parts;   ///< of lights, where the picture keeps them
  /// Half the difference of two independent halves of its samples, signed, 3 a pixel; empty unless
  /// asked for and told.
  std::vector<float> half_difference;
  std::optional<View> view;  ///< as it was rendered to be seen; nothing: not told
  /// Of a PNG, which holds display values: the view that made them, where the file tells it.
  std::optional<View> shown_by;
  double bloom = 0;
  std::string rig_text;  ///< the resolved rig, where it is in the file

  std::size_t pixels() const {
    return static_cast<std::size_t>(width) * static_cast<std::size_t>(height);
  }
  double luminance(std::size_t pixel) const { return luminance_of(&rgb[3 * pixel]); }
  Rgb color(std::size_t pixel) const {
    return {rgb[3 * pixel], rgb[3 * pixel + 1], rgb[3 * pixel + 2]};
  }
  /// As it was rendered to be seen, or exposed so that its geometric mean is 18 % gray.
  View shown() const;
};

/// Reads a folder of a render (its image.exr, or its denoised.exr) or an EXR, PNG or Radiance HDR
/// file; `layers`: also those of lights; `halves`: also the half differences of what is read.
Result<RenderedImage> load_rendered(const std::string& path,
                                    bool layers,
                                    bool denoised = false,
                                    bool halves = false);

/// The text that a view of the picture carries (look_text); empty where its rig is not known.
std::string look_of(const RenderedImage& image);

/// The standard errors of a picture's pixels, over the larger of their luminance and 2 % of the
/// view's white; NaN where the picture does not tell them.
struct ImageNoise {
  double median = 0, p95 = 0;
};
ImageNoise noise_of(const RenderedImage& image);

/// Of so many pixels in a square, how many with independent errors have a mean of the same error:
/// as traced, neighbors may share samples (SharedSamples), one pixel apart with a correlation of up
/// to 1/4; of a denoised picture, whose pixels share what their windows hold, one for each window.
double independent_pixels(double pixels, bool denoised);

/// A problem where a render's folder holds no denoised picture.
Problems check_denoised(const std::string& folder);

/// The image.exr of a folder, or its denoised.exr; the path itself where it is none.
std::string image_in(const std::string& path, bool denoised = false);

/// The luminances of a picture averaged over whole-number factors or sampled, for figures of at
/// most width x height.
RenderedImage shrunk(const RenderedImage& image, int width, int height);

}  // namespace jovilux
