#pragma once

#include "jovilux/base/sampler.h"
#include "jovilux/optics/haze.h"
#include "jovilux/transport/surface_vertex.h"
#include "jovilux/transport/virtual_lights.h"

#include <functional>
#include <optional>

namespace jovilux {

/// One path of light from its emission on: leaves a virtual light wherever it is scattered.
class VirtualLightWalk {
 public:
  VirtualLightWalk(const Scene& scene, int bounces, int haze_bounces, RayCounts& rays)
      : scene_(scene), bounces_(bounces), haze_bounces_(haze_bounces), rays_(rays) {}

  /// `flux`: what the photon stands for [lm]. Virtual lights are added to `out`.
  void run(const EmittedPhoton& photon,
           std::uint32_t emitter,
           double flux,
           Rng random,
           std::vector<VirtualLight>& out);
  /// A stretch of the way: its ray, where it ends [m], the photon's flux [lm] and how it arrives.
  using Stretch = std::function<void(const Ray&, float end, const Spectrum& flux, const Arrival&)>;
  /// Follows the photon over mirrors and through smooth glass alone, of lights without size as
  /// well; `thrown` is called for each stretch after the first of these. `reflected_at`: instead of
  /// by chance, glass, panes and coats reflect at the choice of this number alone, and let through
  /// at all others; the flux then tells nothing. Returns how many choices there were.
  int follow_mirrors(const EmittedPhoton& photon,
                     std::uint32_t emitter,
                     double flux,
                     Rng random,
                     std::optional<int> reflected_at,
                     const Stretch& thrown);

 private:
  enum class Next { kOn, kSurface, kEnd };

  float uniform() { return static_cast<float>(random_.uniform()) * 0x1.fffffep-1f; }
  /// What decides between reflection and transmission.
  float choice();
  /// Russian roulette by what is left of the light.
  bool survives();
  bool stretch_ahead(float end);
  Next through_haze(float end, std::vector<VirtualLight>& out);
  bool at_surface(const SurfacePoint& p, std::vector<VirtualLight>& out);
  bool falls_on(const Vec3& p);
  bool scatter_at(const SurfacePoint& p, const SurfaceModel& material, const SurfaceSide& side);
  void mirror_back(const SurfacePoint& p, const Vec3& normal);
  /// Keeps one of the two lobes by chance, so that caustics are told apart.
  bool choose_lobe(const Lobes& lobes);
  VirtualLight virtual_light(const Vec3& p) const;

  const Scene& scene_;
  int bounces_, haze_bounces_;
  RayCounts& rays_;
  Rng random_{0};
  Ray ray_;
  Spectrum flux_ = Spectrum::Zero();
  float start_flux_ = 0;
  const Emitter* emitter_ = nullptr;
  std::uint32_t emitter_index_ = 0, emission_cell_ = 0;
  bool colored_ = false, hazy_ = false, caustic_ = false, first_only_ = false;
  Eigen::Array3f rgb_ = Eigen::Array3f::Ones();
  int scatterings_ = 0, in_haze_ = 0;
  const SurfaceModel* within_ = nullptr;
  std::optional<SurfaceModel> painted_;
  const Stretch* thrown_ = nullptr;  // of follow_mirrors(), as the next
  std::optional<int> reflected_at_;
  int choices_ = 0;
};

}  // namespace jovilux
