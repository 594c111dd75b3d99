#include "jovilux/render/noisy_film.h"

#include "jovilux/color/rgb.h"

#include <limits>
#include <utility>

namespace jovilux {
namespace {

Eigen::Vector3f float_rgb_of(const Eigen::Vector3f& xyz) {
  return (rec709_from_xyz() * xyz.cast<double>()).cast<float>();
}

}  // namespace

// What the denoiser takes of a film; normals are means, whose length tells how even they are.
NoisyPicture noisy_picture(const Film& film) {
  NoisyPicture out;
  out.width = film.width();
  out.height = film.height();
  out.slots = 1;
  const std::size_t count = film.pixels();
  for (std::vector<float>* v : {&out.mean, &out.halves, &out.albedo, &out.normal}) {
    v->resize(3 * count);
  }
  out.depth.resize(count);
  out.seen.resize(count);
  FilmVariance variance = film_variance(film);
  out.variance = std::move(variance.whole);
  out.half_variance = std::move(variance.half);
  each_pixel(film, [&](std::size_t i) {
    Eigen::Vector3f mean = Eigen::Vector3f::Zero(), difference = Eigen::Vector3f::Zero();
    for (int slot = 0; slot < film.slots(); ++slot) {
      mean += film.slot_mean(i, slot);
      difference += film.half_difference(i, slot);
    }
    const auto put = [i](std::vector<float>& to, const Eigen::Vector3f& v) {
      Eigen::Map<Eigen::Vector3f>(to.data() + 3 * i) = v;
    };
    put(out.mean, float_rgb_of(mean));
    put(out.halves, float_rgb_of(difference));
    const float* guide = film.guide(i);
    const float met = guide[7];
    put(out.albedo,
        met > 0 ? Eigen::Vector3f(Eigen::Map<const Eigen::Vector3f>(guide) / met)
                : Eigen::Vector3f(Eigen::Vector3f::Zero()));
    put(out.normal,
        met > 0 ? Eigen::Vector3f(Eigen::Map<const Eigen::Vector3f>(guide + 3) / met)
                : Eigen::Vector3f(Eigen::Vector3f::Zero()));
    out.seen[i] = film.seen(i);
    out.depth[i] = met > 0 ? guide[6] / met : std::numeric_limits<float>::infinity();
  });
  return out;
}

}  // namespace jovilux
