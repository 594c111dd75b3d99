#pragma once

#include "jovilux/base/sampler.h"
#include "jovilux/transport/distant_emission.h"
#include "jovilux/transport/light_paths.h"
#include "jovilux/transport/surface_vertex.h"

#include <optional>
#include <vector>

namespace jovilux {

/// One path of a light: from the cell where its first ray leaves a box, by the surface in that box,
/// to the surfaces that the camera sees.
class LightPaths::Walk {
 public:
  Walk(const LightPaths& paths,
       const Sampler& sampler,
       double per_sample,
       std::vector<Splat>& out,
       RayCounts& counts,
       std::vector<PhotonRecord>* caustics = nullptr);
  /// Adds the path's contributions; the cell that it left its box by.
  std::size_t run();

 private:
  enum class Meeting { kTarget, kPassed, kBlocked };
  // The vertex before, where it is one that virtual lights stand on.
  struct Sender {
    bool any = false;
    Vec3 position = Vec3::Zero(), normal = Vec3::UnitZ();
    Vec3 side = Vec3::Zero();  // as of VirtualLights::cluster_at
  };

  bool choose_first_ray();
  bool point_on_gloss() const;
  Ray through_box() const;
  bool reach_target();
  Meeting meet_in_box(std::uint32_t panes);
  bool fall_on_target();
  const SurfaceModel* glass_to_light() const;
  bool look_back();
  bool at_vertex();
  void take_material(std::uint32_t number);
  void record_caustic();
  bool show_to_camera();
  void connect();
  bool scatter_on();
  bool weigh_scattering(const Scattering& next,
                        const Vec3& onward,
                        float away,
                        bool begins_on_gloss);
  bool survives(float most, float u);
  bool next_surface();
  bool throws_shadow(std::uint32_t surface) const;
  // What connections leave of the light that goes from the vertex before to this one; `pdf`: with
  // which a camera path would choose that direction here [1/sr]; `side`: as of GuideTree::cell_at.
  float left_by_connections(const Vec3& side, double pdf) const;

  const LightPaths& paths_;
  const Scene& scene_;
  Sampler sampler_;
  double per_sample_;
  std::vector<Splat>& out_;
  RayCounts& counts_;
  std::vector<PhotonRecord>* caustics_;  // null: not recorded

  // Where the path begins.
  const Target* target_ = nullptr;
  Exit exit_;
  const Emitter* emitter_ = nullptr;
  std::uint32_t body_ = kNoIndex;  // the light's own surface
  LightSample light_;
  Vec3 start_on_light_ = Vec3::Zero();
  double start_ratio_ = 0;             // of R, what the first ray adds
  bool findable_ = false;              // camera paths find this light as well
  Covers carried_ = Covers::kNothing;  // by virtual lights

  // What it carries.
  double scale_ = 0;  // of its light, over M: lm per unit of throughput
  // R without what the surface seen by the camera adds; 0: the camera's paths do not find it.
  double ratio_ = 0;
  float left_ = 1;    // of its light, what connections leave to it
  float length_ = 0;  // from the light to its vertex [m]
  Spectrum throughput_ = Spectrum::Ones();
  Arrival how_;
  const SurfaceModel* within_ = nullptr;  // the glass that it runs in
  Sender sender_;
  Rng random_{0};

  // Where it is: at its vertex with this number, travelling this way.
  int vertex_ = 0;
  std::uint32_t pairs_ = 0;  // of dimensions
  Vec3 travel_ = Vec3::UnitZ();
  SurfacePoint p_;
  SurfaceSide side_;
  Frame frame_{Vec3::UnitX(), Vec3::UnitY(), Vec3::UnitZ()};
  const SurfaceModel* material_ = nullptr;
  std::optional<SurfaceModel> colored_;
  Vec3 local_to_light_ = Vec3::UnitZ();  // in the shading frame
  bool inside_ = false;
  float upright_ = 1;  // to_light . normal
  float tilt_ = 1;     // |to_light . shading normal| / |to_light . normal|
  Vec2 lens_ = Vec2::Zero();
};

}  // namespace jovilux
