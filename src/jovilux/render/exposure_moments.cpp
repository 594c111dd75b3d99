#include "jovilux/render/exposure_moments.h"

#include "jovilux/base/parallel.h"

#include <algorithm>
#include <optional>

namespace jovilux {
namespace {

// Whether any keyed value in the tree changes between two moments.
bool moves(const DocumentNode& node, double from, double to) {
  if (is_keyed(node)) {
    return varies_between(node, from, to);
  }
  if (node.is_table()) {
    return std::any_of(node.table().begin(), node.table().end(), [&](const DocumentEntry& e) {
      return moves(e.value, from, to);
    });
  }
  return node.is_array() &&
         std::any_of(node.array().begin(), node.array().end(), [&](const DocumentNode& item) {
           return moves(item, from, to);
         });
}

// Dimmers and switches change a light's level alone, which one scene holds as its mean over the
// shutter; all else needs a scene for each moment.
bool anything_moves(const Rig& rig, int camera, double from, double to) {
  for (const char* kind : {"light", "array", "object", "solid", "haze"}) {
    const DocumentNode* list = rig.document.find(kind);
    for (const DocumentNode& item :
         list != nullptr && list->is_array() ? list->array() : DocumentNode::Array{}) {
      for (const DocumentEntry& e : item.is_table() ? item.table() : DocumentNode::Table{}) {
        if (e.key != "dimmer" && e.key != "on" && moves(e.value, from, to)) {
          return true;
        }
      }
    }
  }
  const DocumentNode* cameras = rig.document.find("camera");
  return cameras != nullptr && cameras->is_array() &&
         static_cast<std::size_t>(camera) < cameras->array().size() &&
         moves(cameras->array()[static_cast<std::size_t>(camera)], from, to);
}

}  // namespace

Result<ExposureMoments> exposure_moments(const Rig& rig, const Scene& scene, int camera) {
  ExposureMoments out;
  const double open = rig.time.open(), from = rig.render.time - open / 2;
  if (!(open > 0) || !anything_moves(rig, camera, from, from + open)) {
    return out;
  }
  // The shutter of a moment is its share of the whole, so that levels are averaged over it.
  std::vector<Rig> rigs;
  DocumentNode shutter;
  shutter.value = rig.time.shutter / kExposureMoments;
  Rig part = rig;
  if (Problems p = set_at_address(part.document, "time.shutter", shutter); has_errors(p)) {
    return p;
  }
  for (int m = 0; m < kExposureMoments; ++m) {
    auto there = rig_at(part, from + open * (m + 0.5) / kExposureMoments);
    if (!there) {
      return there.problems();
    }
    for (std::size_t l = 0; l < there->lights.size() && l < rig.lights.size(); ++l) {
      there->lights[l].split_tint = rig.lights[l].split_tint;
    }
    rigs.push_back(std::move(*there));
  }
  // Layers are the same at all moments: a light that shines at any of them has one. Lights in the
  // rig's order, then hazes that glow.
  const auto add = [&](const std::string& layer) {
    if (std::find(out.layers.begin(), out.layers.end(), layer) == out.layers.end()) {
      out.layers.push_back(layer);
    }
  };
  for (std::size_t l = 0; l < rig.lights.size(); ++l) {
    const LightSpec& light = rig.lights[l];
    const bool shines = std::any_of(
        rigs.begin(), rigs.end(), [&](const Rig& r) { return r.lights[l].dimmed() > 0; });
    const std::string& layer = light.layer_in(rig.render.layers == RenderSpec::Layers::kGroups);
    if (shines && light.split_tint) {
      for (const char* channel : {"~1", "~2", "~3"}) {
        add(light.name + channel);
      }
    } else if (shines) {
      add(layer);
    }
  }
  for (std::size_t h = 0; h < rig.hazes.size(); ++h) {
    if (std::any_of(rigs.begin(), rigs.end(), [&](const Rig& r) {
          return r.hazes[h].emission > 0 && r.hazes[h].extinction > 0;
        })) {
      add(rig.hazes[h].name);
    }
  }
  out.moments.resize(rigs.size());
  std::vector<std::optional<Problems>> faults(rigs.size());
  parallel_for(rigs.size(), [&](std::size_t m) {
    auto there = prepare_moment(rigs[m], camera, scene, out.layers);
    if (!there) {
      faults[m] = there.problems();
      return;
    }
    out.moments[m] = {std::make_shared<const Scene>(std::move(*there)),
                      rigs[m].cameras[static_cast<std::size_t>(camera)]};
  });
  for (const auto& fault : faults) {
    if (fault) {
      return *fault;
    }
  }
  return out;
}

}  // namespace jovilux
