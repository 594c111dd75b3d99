#include "jovilux/render/picture_files.h"

#include "jovilux/files/atomic_file.h"
#include "jovilux/files/exr.h"
#include "jovilux/files/json.h"
#include "jovilux/files/png.h"
#include "jovilux/render/bloom.h"
#include "jovilux/render/noisy_film.h"
#include "jovilux/render/preview.h"
#include "jovilux/render/view.h"

#include <array>
#include <filesystem>
#include <limits>
#include <map>
#include <memory>
#include <tuple>

#include <fmt/format.h>
#include <sys/resource.h>
#include <tbb/enumerable_thread_specific.h>

namespace jovilux {
namespace {

namespace fs = std::filesystem;

Rgb rgb_of(const Eigen::Vector3f& xyz) { return rec709_from_xyz() * xyz.cast<double>(); }

// The slots of a pixel as linear RGB, in single precision: the picture is their sum in this order,
// to the bit.
Eigen::Vector3f slot_rgb(const Film& film, std::size_t pixel, int slot) {
  return rgb_of(film.slot_mean(pixel, slot)).cast<float>();
}

Eigen::Vector3f layer_rgb(const Film& film, std::size_t pixel, int layer) {
  Eigen::Vector3f sum = Eigen::Vector3f::Zero();
  for (int part = 0; part < film.parts(); ++part) {
    sum += slot_rgb(film, pixel, layer * film.parts() + part);
  }
  return sum;
}

Eigen::Vector3f picture_rgb(const Film& film, std::size_t pixel) {
  Eigen::Vector3f sum = Eigen::Vector3f::Zero();
  for (int layer = 0; layer < film.layers(); ++layer) {
    sum += layer_rgb(film, pixel, layer);
  }
  return sum;
}

// Three channels NAME.R/G/B from one function of the pixel, called once a pixel: the three share
// their row, of each thread.
template <class Fn>
void add_rgb(std::vector<ExrChannel>& channels,
             const Film& film,
             const std::string& prefix,
             ExrChannel::Type type,
             const Fn& color,
             const char* letters = "RGB") {
  struct Row {
    int y = -1;
    std::vector<Eigen::Vector3f> colors;
  };
  const auto shared = std::make_shared<tbb::enumerable_thread_specific<Row>>();
  for (int c = 0; c < 3; ++c) {
    channels.push_back({prefix + letters[c], type, [&film, color, c, shared](int y, float* out) {
                          Row& row = shared->local();
                          if (row.y != y) {
                            row.y = y;
                            row.colors.resize(static_cast<std::size_t>(film.width()));
                            for (int x = 0; x < film.width(); ++x) {
                              row.colors[static_cast<std::size_t>(x)] = color(film.pixel(x, y));
                            }
                          }
                          for (int x = 0; x < film.width(); ++x) {
                            out[x] = row.colors[static_cast<std::size_t>(x)][c];
                          }
                        }});
  }
}

template <class Fn>
void add_one(std::vector<ExrChannel>& channels,
             const Film& film,
             const std::string& name,
             ExrChannel::Type type,
             const Fn& value) {
  channels.push_back({name, type, [&film, value](int y, float* out) {
                        for (int x = 0; x < film.width(); ++x) {
                          out[x] = value(film.pixel(x, y));
                        }
                      }});
}

// Half the difference between the means of the two halves of the samples, of the picture and of
// each layer and part: the halves are the mean plus and minus it. The denoiser weighs with one half
// and averages the other.
void add_halves(std::vector<ExrChannel>& channels,
                const Rig& rig,
                const Film& film,
                const FilmVariance& variance,
                const std::vector<std::string>& names) {
  const auto add = [&](const std::string& stem, int first, int count) {
    add_rgb(channels,
            film,
            kHalvesPrefix + stem,
            ExrChannel::Type::kHalf,
            [&film, first, count](std::size_t i) -> Eigen::Vector3f {
              Eigen::Vector3f difference = Eigen::Vector3f::Zero();
              for (int slot = first; slot < first + count; ++slot) {
                difference += film.half_difference(i, slot);
              }
              return rgb_of(difference).cast<float>();
            });
  };
  add("", 0, film.slots());
  for (int half = 0; half < kHalves; ++half) {
    add_one(channels, film, kHalfVariance[half], ExrChannel::Type::kFloat, [&, half](auto i) {
      return variance.half[static_cast<std::size_t>(half)][i];
    });
  }
  if (rig.render.layers == RenderSpec::Layers::kNone) {
    return;
  }
  for (int layer = 0; layer < film.layers(); ++layer) {
    const std::string stem = "light." + names[static_cast<std::size_t>(layer)] + ".";
    add(stem, layer * film.parts(), film.parts());
    for (int part = 0; film.parts() > 1 && part < film.parts(); ++part) {
      add(stem + kPartNames[static_cast<std::size_t>(part)] + ".", layer * film.parts() + part, 1);
    }
  }
}

// Whether pixels have different numbers of samples.
bool is_uneven(const Film& film) {
  bool uneven = false;
  each_pixel(film, [&](std::size_t i) { uneven = uneven || film.taken(i) != film.taken(0); });
  return uneven;
}

// Each light's picture, and its parts where they are kept.
void add_layers(std::vector<ExrChannel>& channels,
                const Film& film,
                const std::vector<std::string>& names) {
  for (int layer = 0; layer < film.layers(); ++layer) {
    const std::string prefix = "light." + names[static_cast<std::size_t>(layer)] + ".";
    add_rgb(channels, film, prefix, ExrChannel::Type::kFloat, [&film, layer](std::size_t i) {
      return layer_rgb(film, i, layer);
    });
    for (int part = 0; film.parts() > 1 && part < film.parts(); ++part) {
      const int slot = layer * film.parts() + part;
      add_rgb(channels,
              film,
              prefix + kPartNames[static_cast<std::size_t>(part)] + ".",
              ExrChannel::Type::kFloat,
              [&film, slot](std::size_t i) { return slot_rgb(film, i, slot); });
    }
  }
}

// What is known of the surfaces that pixels show, and of the lights that are seen in them.
void add_surfaces(std::vector<ExrChannel>& channels, const Film& film) {
  using Type = ExrChannel::Type;
  const auto guide = [&film](std::size_t i, int first) -> Eigen::Vector3f {
    const float n = film.guide(i)[7];
    const float* g = film.guide(i) + first;
    return n > 0 ? Eigen::Vector3f(Eigen::Vector3f(g[0], g[1], g[2]) / n)
                 : Eigen::Vector3f(Eigen::Vector3f::Zero());
  };
  add_rgb(channels, film, "albedo.", Type::kHalf, [guide](std::size_t i) { return guide(i, 0); });
  add_rgb(
      channels,
      film,
      "normal.",
      Type::kHalf,
      [guide](std::size_t i) { return guide(i, 3); },
      "XYZ");
  add_one(channels, film, "depth.Z", Type::kFloat, [&film](std::size_t i) {
    const float n = film.guide(i)[7];
    return n > 0 ? film.guide(i)[6] / n : std::numeric_limits<float>::infinity();
  });
  add_one(
      channels, film, kSeenChannel, Type::kFloat, [&film](std::size_t i) { return film.seen(i); });
  add_one(channels, film, "object.id", Type::kIndex, [&film](std::size_t i) {
    return static_cast<float>(film.object(i));
  });
}

void save_exr(const std::string& path,
              const std::string& rig_text,
              const Rig& rig,
              const std::vector<std::string>& names,
              const RenderOptions& options,
              const Render& r,
              const View& view) {
  using Type = ExrChannel::Type;
  const Film& film = r.film();
  std::vector<ExrChannel> channels;
  add_rgb(
      channels, film, "", Type::kFloat, [&film](std::size_t i) { return picture_rgb(film, i); });
  const FilmVariance variance = film_variance(film);
  add_one(channels, film, "variance.V", Type::kFloat, [&variance](std::size_t i) {
    return variance.whole[i];
  });
  if (rig.render.noise || is_uneven(film)) {
    add_one(channels, film, kSamplesChannel, Type::kFloat, [&film](std::size_t i) {
      return static_cast<float>(film.taken(i));
    });
  }
  if (rig.render.layers != RenderSpec::Layers::kNone) {
    add_layers(channels, film, names);
  }
  add_halves(channels, rig, film, variance, names);
  add_surfaces(channels, film);
  ExrHeader header;
  header.width = film.width();
  header.height = film.height();
  header.written = [&film](int rows) {  // whole rows of tiles
    const std::size_t done = static_cast<std::size_t>(rows / kTile) * film.tiles_across();
    film.rest(0, done);
  };
  header.texts[kRigAttribute] = rig_text;
  header.texts[kCameraAttribute] = rig.cameras[static_cast<std::size_t>(options.camera)].name;
  tell_look(header, view);
  header.numbers[kSamplesAttribute] = static_cast<float>(r.stats.samples_per_pixel);
  write_exr(path, header, channels);
}

// The picture as the view shows it; returns its bytes.
std::vector<std::uint8_t> save_view(const std::string& path,
                                    const Rig& rig,
                                    const View& view,
                                    std::vector<float> rgb,
                                    int width,
                                    int height) {
  return write_view(path,
                    view,
                    rig.look.bloom,
                    std::move(rgb),
                    width,
                    height,
                    look_text(rig.document, view),
                    rig.title);
}

}  // namespace

void tell_look(ExrHeader& header, const View& view) {
  header.numbers[kEvAttribute] = static_cast<float>(view.ev());
  if (view.found_white()) {
    header.texts[kWhiteAttribute] = to_string(*view.found_white());
  }
}

std::string look_text(const DocumentNode& rig, const View& view) {
  const auto text = [](const std::string& value) {
    DocumentNode node;
    node.value = value;
    return node;
  };
  DocumentNode out;
  if (const DocumentNode* version = rig.find("jovilux")) {
    out.table().push_back({"jovilux", {}, *version});
  }
  DocumentNode look;
  look.table();
  if (const DocumentNode* own = rig.find("look"); own != nullptr && own->is_table()) {
    look = *own;
  }
  std::erase_if(look.table(), [](const DocumentEntry& e) { return e.key == "exposure"; });
  look.table().push_back({"exposure", {}, text(fmt::format("EV {:.6f}", view.ev()))});
  if (view.studio() != nullptr) {  // a picture may be moved away from its folder
    if (DocumentNode* transform = look.find("transform"); transform != nullptr) {
      std::error_code ec;
      transform->set("config", {}, text(fs::absolute(view.studio()->spec().config, ec).string()));
    }
  }
  if (const auto& white = view.found_white()) {
    std::erase_if(look.table(), [](const DocumentEntry& e) { return e.key == "white_balance"; });
    look.table().push_back({"white_balance", {}, text(to_string(*white))});
  }
  out.table().push_back({"look", {}, std::move(look)});
  return to_toml(out);
}

std::vector<std::uint8_t> write_view(const std::string& path,
                                     const View& view,
                                     double bloom_share,
                                     std::vector<float> rgb,
                                     int width,
                                     int height,
                                     const std::string& look,
                                     const std::string& title) {
  bloom(rgb, width, height, bloom_share);
  std::vector<std::uint8_t> bytes(rgb.size());
  for (std::size_t i = 0; i < rgb.size() / 3; ++i) {
    const auto v = view.srgb8(Eigen::Map<const Eigen::Vector3f>(rgb.data() + 3 * i).cast<double>());
    std::copy(v.begin(), v.end(), bytes.begin() + static_cast<std::ptrdiff_t>(3 * i));
  }
  std::map<std::string, std::string> texts = {{"Software", "Jovilux"},
                                              {"Comment", fmt::format("EV100 {:.2f}", view.ev())},
                                              {kLookText, look}};
  if (!title.empty()) {
    texts["Title"] = title;
  }
  write_png(path, width, height, bytes, texts);
  return bytes;
}

void save_view_so_far(const std::string& folder, const Rig& rig, int camera, const Film& film) {
  std::vector<float> rgb(film.pixels() * 3);
  each_pixel(film, [&](std::size_t i) {
    Eigen::Map<Eigen::Vector3f>(rgb.data() + 3 * i) = picture_rgb(film, i);
  });
  const View view = look_view(rig.look, rig.cameras[static_cast<std::size_t>(camera)], film);
  save_view((fs::path(folder) / "view.png").string(), rig, view, rgb, film.width(), film.height());
}

std::vector<std::uint8_t> save_picture(const std::string& exr,
                                       const std::string& png,
                                       const Rig& rig,
                                       const std::string& rig_text,
                                       double ev,
                                       const std::vector<float>& rgb,
                                       bool denoised) {
  const int width = rig.render.width, height = rig.render.height;
  std::vector<ExrChannel> channels;
  add_rgb_channels(channels, "", rgb, width);
  ExrHeader header;
  header.width = width;
  header.height = height;
  header.texts[kRigAttribute] = rig_text;
  if (denoised) {
    header.texts[kDenoisedAttribute] = "yes";
  }
  const View view(rig.look, ev);
  tell_look(header, view);
  write_exr(exr, header, channels);
  return save_view(png, rig, view, rgb, width, height);
}

namespace {

// The rig, the picture, and how many samples its pixels have.
Json picture_in_stats(const Rig& rig, const RenderStats& stats, int width, int height) {
  Json j;
  j["version"] = 1;
  j["rig"] = rig.file;
  std::error_code ec;
  j["rig_path"] = fs::weakly_canonical(rig.file, ec).string();
  j["seed"] = rig.render.seed;
  j["width"] = width;
  j["height"] = height;
  j["samples_per_pixel"] = stats.samples_per_pixel;
  j["sampling"] = {{"even", !rig.render.noise.has_value() && stats.rounds.empty()},
                   {"least", stats.least_samples},
                   {"most", stats.most_samples},
                   {"rounds", Json::array()}};
  for (const SampleRound& r : stats.rounds) {
    j["sampling"]["rounds"].push_back({{"mean", r.mean}, {"least", r.least}, {"most", r.most}});
  }
  return j;
}

// Time, memory, noise and rays.
void add_work(Json& j, const RenderStats& stats) {
  static constexpr const char* kStopped[] = {"samples", "noise", "time", "signal"};
  rusage usage{};
  ::getrusage(RUSAGE_SELF, &usage);
  j["threads"] = stats.threads;
  j["wall_s"] = stats.wall_s;
  j["cpu_s"] = stats.cpu_s;
  j["peak_memory_bytes"] = static_cast<std::uint64_t>(usage.ru_maxrss) * 1024;
  j["stopped_by"] = kStopped[static_cast<int>(stats.stopped_by)];
  j["noise"] = {{"median", number_or_null(stats.noise.median)},
                {"p95", number_or_null(stats.noise.p95)},
                {"fireflies", stats.noise.fireflies}};
  j["white_luminance_cd_m2"] = stats.white_luminance;
  j["rays"] = {{"camera", stats.rays.camera},
               {"path", stats.rays.path},
               {"shadow", stats.rays.shadow},
               {"march_steps", stats.rays.march.steps},
               {"marches", stats.rays.march.marches},
               {"marches_out_of_steps", stats.rays.march.exhausted},
               {"media_steps", stats.rays.media_steps}};
  // What was learned before the picture; its rays are among those above.
  j["guiding"] = {
      {"rounds", stats.guide_rounds}, {"paths", stats.guide_paths}, {"seconds", stats.guide_s}};
}

Json to_json(const RenderStats::Light& l) {
  Json out = {{"name", l.name},
              {"mean_luminance_cd_m2", l.mean_luminance},
              {"share", l.share},
              {"noise", number_or_null(l.noise)},
              {"noise_share", number_or_null(l.noise_share)}};
  if (l.clamped > 0) {
    out["clamped_cd_m2"] = l.clamped;
  }
  for (std::size_t p = 0; p < l.parts.size(); ++p) {
    out["noise_by_part"][kPartNames[p]] = number_or_null(l.parts[p]);
    out["noise_share_by_part"][kPartNames[p]] = number_or_null(l.part_shares[p]);
  }
  return out;
}

}  // namespace

std::string stats_json(const Rig& rig, const RenderStats& stats, int width, int height) {
  Json j = picture_in_stats(rig, stats, width, height);
  add_work(j, stats);
  j["lights"] = Json::array();
  for (const RenderStats::Light& l : stats.lights) {
    j["lights"].push_back(to_json(l));
  }
  j["mean_luminance_cd_m2"] = stats.mean_luminance;
  if (const auto& lost = stats.not_finite) {
    j["not_finite"] = {
        {"contributions", lost->contributions},
        {"first",
         {{"x", lost->x}, {"y", lost->y}, {"sample", lost->sample}, {"round", lost->round}}}};
  }
  if (stats.by_bounce_roughness) {
    j["bounce_roughness"] = {{"removed_cd_m2", stats.by_bounce_roughness->luminance},
                             {"standard_error_cd_m2", stats.by_bounce_roughness->standard_error}};
  }
  j["history"] = Json::array();
  for (const NoiseMoment& m : stats.history) {
    j["history"].push_back({{"samples", m.samples},
                            {"seconds", m.seconds},
                            {"median", number_or_null(m.median)},
                            {"p95", number_or_null(m.p95)}});
  }
  return json_text(j);
}

void save_render(const std::string& folder,
                 const Rig& rig,
                 const std::vector<std::string>& layers,
                 const RenderOptions& options,
                 const Render& r,
                 const std::optional<PreviewLook>& preview) {
  const fs::path dir(folder);
  const Film& film = r.film();
  const std::string rig_text = resolved_toml(rig, folder);
  const View view =
      look_view(rig.look, rig.cameras[static_cast<std::size_t>(options.camera)], film);
  // A denoised picture that is there tells of another render.
  std::error_code ec;
  fs::remove(dir / kDenoisedPicture, ec);
  fs::remove(dir / kDenoisedView, ec);
  save_exr((dir / "image.exr").string(), rig_text, rig, layers, options, r, view);
  std::vector<float> rgb(film.pixels() * 3);
  each_pixel(film, [&](std::size_t i) {
    Eigen::Map<Eigen::Vector3f>(rgb.data() + 3 * i) = picture_rgb(film, i);
  });
  int width = film.width(), height = film.height();
  if (preview) {
    rgb = enlarged(
        preview->denoised ? denoise(noisy_picture(film)).mean : smoothed(film, !rig.hazes.empty()),
        width,
        height,
        preview->width,
        preview->height);
    width = preview->width;
    height = preview->height;
  }
  save_view((dir / "view.png").string(), rig, view, rgb, width, height);
  write_text_file((dir / "stats.json").string(),
                  stats_json(rig, r.stats, film.width(), film.height()));
  // The last: with it the folder holds all of this render, and --resume finds nothing left to do.
  write_text_file((dir / "rig.resolved.toml").string(), rig_text);
}

}  // namespace jovilux
