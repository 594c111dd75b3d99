#include "jovilux/scene/scene.h"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

#include "jovilux/base/text.h"
#include "jovilux/files/mesh_file.h"
#include "jovilux/files/spectrum_file.h"

namespace jovilux {
namespace {

SurfaceModel model_of(const MaterialSpec& m) {
  const Spectrum color = spectrum_from_rgb(m.color);
  const auto roughness = static_cast<float>(m.roughness);
  switch (m.kind) {
    case MaterialSpec::Kind::kMatte: return matte(color, roughness);
    case MaterialSpec::Kind::kMetal: return metal(color, roughness);
    case MaterialSpec::Kind::kGloss:
      return gloss(color, spectrum_from_rgb(m.coat_color), static_cast<float>(m.ior), roughness);
  }
  return {};
}

Shape body_of(const SourceShape& s) {
  Shape out;
  switch (s.form) {
    case Form::kSphere: out.kind = ShapeKind::kSphere; out.a = s.radius; break;
    case Form::kDisk: out.kind = ShapeKind::kDisk; out.a = s.radius; break;
    default:
      out.kind = ShapeKind::kRect;
      out.a = s.width / 2;
      out.b = s.height / 2;
  }
  return out;
}

}  // namespace

Result<SourceColor> source_color(const LightSpec& light) {
  SourceColor out;
  Problems problems;
  const auto load = [&](const std::string& file, const Place& asked_at, const std::string& address) {
    auto table = load_spectrum(file);
    for (Problem p : table.problems()) {
      p.address = address;
      p.hint = "named at " + to_string(asked_at);
      problems.push_back(std::move(p));
    }
    return table ? *table : NmTable{};
  };
  out.spectrum = !light.spectrum_file.empty() ? load(light.spectrum_file, light.spectrum_place, "light." + light.name + ".spectrum")
                 : light.spectrum             ? *light.spectrum
                                              : spectrum(light.white_now());
  NmTable gels;
  gels.value.fill(1);
  for (const GelSpec& gel : light.gels) {
    const NmTable one = gel.file.empty() ? gel.transmittance : load(gel.file, gel.place, "gel." + gel.name + ".file");
    for (const double t : one.value) {
      if (t > 1) {
        problems.push_back({Severity::kError, "bad-spectrum", {gel.file, 0, 0}, "gel." + gel.name + ".file",
                            fmt::format("a transmittance of {}; a gel lets through 0 to 1", short_number(t)), ""});
        break;
      }
    }
    gels = filtered(gels, one);
  }
  if (has_errors(problems)) {
    return problems;
  }
  out.transmittance = luminous_transmittance(out.spectrum, gels);
  if (out.transmittance > 0) {
    out.spectrum = filtered(out.spectrum, gels);
  }
  return {out, std::move(problems)};
}

Emitter make_emitter(const LightSpec& light, const SourceColor& color, const Vec3d& up) {
  Emitter e;
  e.form = light.shape.form;
  e.center = light.at.cast<float>();
  const Mat3d frame = aimed(light.axis, up, light.roll);
  e.frame = {frame.col(0).cast<float>(), frame.col(1).cast<float>(), frame.col(2).cast<float>()};
  e.radius = static_cast<float>(light.shape.radius);
  e.half_width = static_cast<float>(light.shape.width / 2);
  e.half_height = static_cast<float>(light.shape.height / 2);
  e.half_spread = static_cast<float>(light.shape.half_spread);
  e.half_beam = static_cast<float>(light.shape.beam.half_beam);
  e.beam_exponent = static_cast<float>(light.shape.beam.exponent);
  e.cos_beam = static_cast<float>(std::cos(light.shape.beam.half_beam));
  e.cos_field = static_cast<float>(std::cos(light.shape.beam.half_field));
  e.sky = light.shape.sky;
  e.sin2_disc = static_cast<float>(sqr(std::sin(light.shape.disc / 2)));
  const double level = light.dimmed() * color.transmittance;
  if (light.levels.luminance) {
    e.luminance = static_cast<float>(level * light.levels.luminance->value);
  }
  if (e.is_zero_size()) {
    e.intensity = static_cast<float>(level * light.levels.intensity->value);
  }
  e.table = light_table(color.spectrum);
  if (light.tint) {
    e.table = tinted(e.table, *light.tint);
  }
  e.falloff = light.falloff;
  return e;
}

Result<Scene> prepare_scene(const Rig& rig) {
  Scene scene;
  Problems problems;
  for (const MaterialSpec& m : rig.materials) {
    scene.materials.push_back(model_of(m));
  }
  const auto plain = static_cast<std::uint32_t>(scene.materials.size());
  scene.materials.push_back(matte(Spectrum::Constant(0.5f), 0));

  for (std::size_t i = 0; i < rig.objects.size(); ++i) {
    const ObjectSpec& object = rig.objects[i];
    const auto surface = static_cast<std::uint32_t>(scene.surfaces.size());
    scene.surfaces.push_back({static_cast<std::uint32_t>(i),
                              object.material < 0 ? plain : static_cast<std::uint32_t>(object.material),
                              kNoIndex});
    if (object.shape) {
      scene.world.add_shape(*object.shape, object.transform, surface);
      continue;
    }
    auto mesh = load_mesh(object.mesh);
    if (!mesh) {
      for (Problem p : mesh.problems()) {
        p.address = "object." + object.name + ".mesh";
        p.hint = "named at " + to_string(object.mesh_place);
        problems.push_back(std::move(p));
      }
      continue;
    }
    Transform transform = object.transform;
    Mat3d file_axes = Mat3d::Identity() * object.mesh_length;
    if (object.mesh_up == 'y') {  // y up, z towards the viewer, becomes z up
      Mat3d stand;
      stand << 1, 0, 0, 0, 0, -1, 0, 1, 0;
      file_axes = stand * object.mesh_length;
    }
    transform.linear = transform.linear * file_axes;
    transform_mesh(*mesh, transform);
    constexpr float kFarthest = 1e7f;
    bool inside = true;
    for (const Vec3& p : mesh->positions) {
      inside = inside && p.cwiseAbs().maxCoeff() <= kFarthest;
    }
    if (!inside) {
      problems.push_back({Severity::kError, "out-of-range", object.mesh_place, "object." + object.name + ".mesh",
                          "a vertex lies farther than 10000 km from the origin", "see mesh_length and scale"});
      continue;
    }
    scene.world.add_mesh(std::move(*mesh), surface);
  }

  for (std::size_t i = 0; i < rig.lights.size(); ++i) {
    const LightSpec& light = rig.lights[i];
    const auto color = source_color(light);
    if (!color) {
      problems.insert(problems.end(), color.problems().begin(), color.problems().end());
      continue;
    }
    scene.gel_transmittance.push_back(color->transmittance);
    Emitter e = make_emitter(light, *color, rig.up);
    const auto index = static_cast<std::uint32_t>(i);
    if (e.shines()) {
      const auto known = std::find(scene.layers.begin(), scene.layers.end(), light.layer);
      e.layer = static_cast<std::uint32_t>(known - scene.layers.begin());
      if (known == scene.layers.end()) {
        scene.layers.push_back(light.layer);
      }
    }
    scene.emitter_surface.push_back(kNoIndex);
    if (e.is_distant()) {
      scene.distant.push_back(index);
    } else if (!e.is_zero_size()) {
      Transform place;
      place.linear = aimed(light.axis, rig.up, light.roll);
      place.offset = light.at;
      scene.world.add_shape(body_of(light.shape), place, static_cast<std::uint32_t>(scene.surfaces.size()));
      scene.emitter_surface.back() = static_cast<std::uint32_t>(scene.surfaces.size());
      scene.surfaces.push_back({kNoIndex, kNoIndex, index});
    }
    scene.emitters.push_back(e);
  }
  if (has_errors(problems)) {
    return problems;
  }
  scene.world.build();
  return {std::move(scene), std::move(problems)};
}

}  // namespace jovilux
