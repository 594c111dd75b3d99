#include "jovilux/judge/shadow_study.h"

#include "jovilux/color/rgb.h"
#include "jovilux/judge/rendered_image.h"
#include "jovilux/render/exposure_moments.h"

#include <algorithm>
#include <cmath>
#include <utility>

namespace jovilux {
namespace {

struct Picture {
  Film film;
  std::vector<std::string> layers;
  bool finished;
};

Result<Picture> picture_of(const Rig& rig, RenderOptions options) {
  auto scene = prepare_scene(rig, options.camera);
  if (!scene) {
    return scene.problems();
  }
  auto exposure = exposure_moments(rig, *scene, options.camera);
  if (!exposure) {
    return exposure.problems();
  }
  const std::vector<std::string> layers =
      exposure->moments.empty() ? scene->layers : exposure->layers;
  options.moments = std::move(exposure->moments);
  Render render =
      render_on(rig,
                *scene,
                options,
                RenderState(rig.render.width, rig.render.height, layers.size(), parts_of(rig)));
  return Picture{
      std::move(render.state.film), layers, render.stats.stopped_by != StoppedBy::kSignal};
}

// What a real surface stands for is not taken away, nor is a lamp.
std::vector<std::size_t> removable(const Rig& rig) {
  std::vector<std::size_t> out;
  for (std::size_t i = 0; i < rig.objects.size(); ++i) {
    const bool lamp =
        std::any_of(rig.lights.begin(), rig.lights.end(), [&](const LightSpec& light) {
          return light.object == static_cast<int>(i);
        });
    if (!rig.objects[i].catches_shadow && !lamp) {
      out.push_back(i);
    }
  }
  return out;
}

Problem nothing_to_study(const Rig& rig, const char* text, const char* hint) {
  return {Severity::kError, "no-shadow", {rig.file, 0, 0}, "object", text, hint};
}

// Factor, objects and error of each pixel, and what is left of the light on catching surfaces.
class Comparing {
 public:
  Comparing(const Rig& rig, const Film& whole, const Picture& with, const Picture& without)
      : rig_(rig), whole_(whole), with_(with), without_(without) {
    out_.width = whole.width();
    out_.height = whole.height();
    for (std::vector<float>* v : {&out_.without, &out_.objects, &out_.factor}) {
      v->resize(3 * whole.pixels());
    }
    out_.error.resize(whole.pixels());
    for (const std::string& layer : without.layers) {
      out_.lights.push_back({layer, 0, 0, 0});
    }
  }

  ShadowStudy study() {
    for (std::size_t i = 0; i < whole_.pixels(); ++i) {
      pixel(i);
    }
    const auto n = static_cast<double>(caught_);
    out_.caught = n / static_cast<double>(whole_.pixels());
    if (caught_ > 0) {
      const auto mean = [n](ShadowStudy::Left& left) {
        left.without /= n;
        left.with /= n;
      };
      mean(out_.all);
      std::for_each(out_.lights.begin(), out_.lights.end(), mean);
      if (out_.all.without > 0) {
        const double share = out_.all.share();
        const double variance = (with_variance_ + share * share * without_variance_) / n;
        out_.all.standard_error =
            std::sqrt(variance / independent_pixels(n, false)) / out_.all.without;
      }
    }
    return std::move(out_);
  }

 private:
  bool catches(std::size_t i) const {
    const std::uint32_t surface = without_.film.object(i);  // from 1; objects come first
    return surface > 0 && surface <= rig_.objects.size() &&
           rig_.objects[surface - 1].catches_shadow;
  }

  void pixel(std::size_t i) {
    const Eigen::Vector3f with = with_.film.mean(i), without = without_.film.mean(i);
    const auto rgb = [](const Eigen::Vector3f& xyz) {
      return (rec709_from_xyz() * xyz.cast<double>()).cast<float>().eval();
    };
    const Eigen::Vector3f c = rgb(with), w = rgb(without), p = rgb(whole_.mean(i));
    for (int k = 0; k < 3; ++k) {
      const std::size_t at = 3 * i + static_cast<std::size_t>(k);
      out_.without[at] = w[k];
      out_.objects[at] = p[k] - c[k];
      out_.factor[at] = w[k] > 0 ? std::max(0.0f, c[k] / w[k]) : 1;
    }
    const double l = static_cast<double>(without.y());
    if (!(l > 0)) {
      return;
    }
    const double share = static_cast<double>(with.y()) / l,
                 with_variance = static_cast<double>(of_with_.whole[i]),
                 without_variance = static_cast<double>(of_without_.whole[i]),
                 error = std::sqrt(with_variance + share * share * without_variance) / l;
    out_.error[i] = static_cast<float>(error);
    if (!catches(i)) {
      return;
    }
    ++caught_;
    with_variance_ += with_variance;
    without_variance_ += without_variance;
    out_.all.with += static_cast<double>(with.y());
    out_.all.without += l;
    add_layers(i);
    constexpr double kTold = 0.1;
    if (is_uncovered(i) && error < kTold && share < out_.darkest) {
      out_.darkest = share;
      out_.darkest_x = static_cast<int>(i) % out_.width;
      out_.darkest_y = static_cast<int>(i) / out_.width;
    }
  }

  // Where an object covers the surface the factor says nothing of the light on it: none may be
  // seen in the pixels around either.
  bool is_uncovered(std::size_t i) const {
    const int x = static_cast<int>(i) % out_.width, y = static_cast<int>(i) / out_.width;
    for (int v = std::max(0, y - 1); v <= std::min(out_.height - 1, y + 1); ++v) {
      for (int u = std::max(0, x - 1); u <= std::min(out_.width - 1, x + 1); ++u) {
        if (whole_.object(whole_.pixel(u, v)) != without_.film.object(i)) {
          return false;
        }
      }
    }
    return true;
  }

  void add_layers(std::size_t i) {
    const int parts = without_.film.parts();
    for (std::size_t l = 0; l < out_.lights.size(); ++l) {
      for (int part = 0; part < parts; ++part) {
        const int slot = static_cast<int>(l) * parts + part;
        out_.lights[l].without += static_cast<double>(without_.film.slot_mean(i, slot).y());
        out_.lights[l].with += static_cast<double>(with_.film.slot_mean(i, slot).y());
      }
    }
  }

  const Rig& rig_;
  const Film& whole_;
  const Picture &with_, &without_;
  const FilmVariance of_with_ = film_variance(with_.film),
                     of_without_ = film_variance(without_.film);
  ShadowStudy out_;
  std::size_t caught_ = 0;
  double with_variance_ = 0, without_variance_ = 0;
};

}  // namespace

Result<ShadowStudy> study_shadow(const Rig& rig,
                                 const RenderOptions& options,
                                 const std::function<void(int)>& told) {
  const std::vector<std::size_t> objects = removable(rig);
  const bool catches = std::any_of(rig.objects.begin(), rig.objects.end(), [](const auto& object) {
    return object.catches_shadow;
  });
  if (!catches) {
    return nothing_to_study(
        rig, "no object catches shadows", "write catches_shadow = true in the floor's [[object]]");
  }
  if (objects.empty()) {
    return nothing_to_study(rig,
                            "all objects catch shadows, and none is left to throw them",
                            "leave catches_shadow out of the objects that are to be added");
  }
  Rig held = rig, bare = rig;
  for (const std::size_t i : objects) {
    held.objects[i].held_out = true;
    bare.objects[i].absent = true;
  }
  told(0);
  auto whole = picture_of(rig, options);
  if (!whole) {
    return whole.problems();
  }
  if (!whole->finished) {
    ShadowStudy stopped;
    stopped.finished = false;
    return stopped;
  }
  told(1);
  auto with = picture_of(held, options);
  told(2);
  auto without = picture_of(bare, options);
  if (!with || !without) {
    return !with ? with.problems() : without.problems();
  }
  ShadowStudy study = Comparing(rig, whole->film, *with, *without).study();
  study.finished = with->finished && without->finished;
  return study;
}

}  // namespace jovilux
