#include "jovilux/base/text.h"
#include "jovilux/rig/read_light_parts.h"
#include "jovilux/rig/read_solid.h"

#include <algorithm>

#include <fmt/format.h>

namespace jovilux {
namespace {

// The objects that names and "tag:..." stand for.
std::vector<std::uint32_t> read_objects(TableReader& r, std::string_view key, const Rig& rig) {
  std::vector<std::uint32_t> out;
  const DocumentNode* list = r.find(key);
  const auto texts = r.texts(key);
  if (!texts || list == nullptr) {
    return out;
  }
  std::vector<std::string> names;
  for (const ObjectSpec& o : rig.objects) {
    names.push_back(o.array.empty() ? o.name : o.array);
    for (const std::string& tag : o.tags) {
      names.push_back("tag:" + tag);
    }
  }
  std::sort(names.begin(), names.end());
  names.erase(std::unique(names.begin(), names.end()), names.end());
  for (std::size_t i = 0; i < texts->size(); ++i) {
    const std::string& name = (*texts)[i];
    bool found = false;
    for (std::size_t o = 0; o < rig.objects.size(); ++o) {
      const ObjectSpec& object = rig.objects[o];
      const bool match = name.starts_with("tag:")
                             ? std::find(object.tags.begin(), object.tags.end(), name.substr(4)) !=
                                   object.tags.end()
                             : object.name == name || object.array == name;
      if (match) {
        found = true;
        out.push_back(static_cast<std::uint32_t>(o));
      }
    }
    if (!found) {
      r.unknown_name(key,
                     list->array()[i].place,
                     name.starts_with("tag:")
                         ? fmt::format("no object has the tag \"{}\"", printable(name.substr(4)))
                         : fmt::format("there is no object \"{}\"", printable(name)),
                     name,
                     names);
    }
  }
  std::sort(out.begin(), out.end());
  out.erase(std::unique(out.begin(), out.end()), out.end());
  return out;
}

// All objects of `only`, or of the rig, without those of `skip`; nothing where neither is given.
std::optional<std::vector<std::uint32_t>> read_links(TableReader& r,
                                                     std::string_view only,
                                                     std::string_view skip,
                                                     const Rig& rig) {
  if (!r.has(only) && !r.has(skip)) {
    return std::nullopt;
  }
  std::vector<std::uint32_t> in = read_objects(r, only, rig);
  const std::vector<std::uint32_t> out = read_objects(r, skip, rig);
  if (!r.has(only)) {
    for (std::size_t i = 0; i < rig.objects.size(); ++i) {
      in.push_back(static_cast<std::uint32_t>(i));
    }
  }
  std::vector<std::uint32_t> left;
  std::set_difference(in.begin(), in.end(), out.begin(), out.end(), std::back_inserter(left));
  return left;
}

// Which list leaves the light without an object.
void warn_of_no_object(TableReader& r, const Rig& rig) {
  const bool only = r.has("only"), skip = r.has("skip");
  const DocumentNode* listed = r.find("only");
  const bool empty_list = only && listed->is_array() && listed->array().empty();
  r.warning(only ? "only" : "skip",
            only ? r.place("only") : r.place("skip"),
            "lights-nothing",
            "the light is linked to no object",
            rig.objects.empty() ? "the rig has no object"
            : empty_list        ? "the list only is empty: name objects, or leave it out"
            : only && skip      ? "skip takes all that only names: shorten skip"
                                : "skip names every object of the rig: shorten it");
}

void read_cheat(TableReader& r, LightSpec& light) {
  const DocumentNode* cheat = r.table("cheat");
  if (cheat == nullptr) {
    return;
  }
  TableReader c = r.within("cheat", *cheat);
  CheatSpec& out = light.cheat;
  light.cheat_place = cheat->place;
  out.direct = c.number_or_standard("direct");
  out.diffuse = c.number_or_standard("diffuse");
  out.gloss = c.number_or_standard("gloss");
  out.bounce = c.number_or_standard("bounce");
  out.bounce_chroma = c.number_or_standard("bounce_chroma");
  out.haze = c.number_or_standard("haze");
  out.shadow = c.number_or_standard("shadow");
  out.shadow_tint = c.color_or_standard("shadow_tint");
  out.caustics = c.number_or_standard("caustics");
  out.visible = c.flag_or_standard("visible");
  out.bounce_limit = c.number("bounce_limit");
  c.finish();
}

}  // namespace

void read_effect(TableReader& r, const Rig& rig, LightSpec& light) {
  light.lit = read_links(r, "only", "skip", rig);
  light.casters = read_links(r, "shadow_only", "shadow_skip", rig);
  if (light.lit && light.lit->empty()) {
    warn_of_no_object(r, rig);
  }
  if (!is_distant(light.shape.kind)) {
    if (const auto volume = r.text("inside")) {
      light.inside = volume_named(r, "inside", *volume, rig, {});
    }
    if (const auto fade = r.numbers("fade_with_camera")) {
      if ((*fade)[1] <= (*fade)[0]) {
        r.error("fade_with_camera",
                r.place("fade_with_camera"),
                "out-of-range",
                "the second length ends the fade: it must be above the first");
      }
      light.fade_with_camera = std::pair((*fade)[0], (*fade)[1]);
    }
  }
  if (const auto group = r.text("group")) {
    if (is_plain_name(*group)) {
      light.group = *group;
    } else {
      r.error("group",
              r.place("group"),
              "bad-name",
              fmt::format("found \"{}\"; a group's name is made of letters, digits, - and _",
                          printable(*group, 40)));
    }
  }
  read_cheat(r, light);
}

}  // namespace jovilux
