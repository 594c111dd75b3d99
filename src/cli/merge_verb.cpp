#include "jovilux/base/text.h"
#include "jovilux/render/picture_files.h"
#include "jovilux/render/render_state.h"

#include <algorithm>
#include <chrono>
#include <filesystem>
#include <map>

#include "cli/arguments.h"
#include "cli/denoise_verb.h"
#include "cli/output.h"
#include "cli/progress_bar.h"
#include "cli/render_verb.h"
#include "cli/verbs.h"
#include <fmt/format.h>

namespace jovilux::cli {
namespace {

namespace fs = std::filesystem;

[[noreturn]] void refuse(const std::string& file, std::string text, std::string hint) {
  throw BadInput{
      {{Severity::kError, "bad-slice", {file, 0, 0}, "", std::move(text), std::move(hint)}}};
}

// The film files of slices in the folders, by slice.
std::map<int, std::string> slices_in(const std::vector<std::string>& folders,
                                     std::vector<FilmLabel>& labels) {
  std::map<int, std::string> files;
  for (const std::string& folder : folders) {
    std::error_code ec;
    std::vector<std::string> here;
    for (const auto& entry : fs::directory_iterator(folder, ec)) {
      const std::string name = entry.path().filename().string();
      if (name.starts_with("slice-") && name.ends_with(".part")) {
        here.push_back(entry.path().string());
      }
    }
    if (ec) {
      refuse(folder, "the folder cannot be read: " + ec.message(), "");
    }
    if (here.empty()) {
      refuse(folder, "holds no slice", "make one with: jovilux render RIG --slice K/N -o DIR");
    }
    std::sort(here.begin(), here.end());
    for (const std::string& file : here) {
      auto label = film_label(file);
      if (!label) {
        throw BadInput{label.problems()};
      }
      if (!labels.empty() && label->share.count != labels[0].share.count) {
        refuse(file,
               fmt::format("is one of {} slices; the first file is one of {}",
                           label->share.count,
                           labels[0].share.count),
               "give the slices of one render");
      }
      if (const auto [at, fresh] = files.emplace(label->share.index, file); !fresh) {
        refuse(file,
               fmt::format("is slice {}, and so is {}", label->share.index + 1, at->second),
               "give each slice once");
      }
      labels.push_back(std::move(*label));
    }
  }
  return files;
}

std::string listed(const std::vector<int>& slices) {
  std::string out;
  constexpr std::size_t kMost = 12;
  for (std::size_t i = 0; i < std::min(slices.size(), kMost); ++i) {
    out += (i > 0 ? ", " : "") + std::to_string(slices[i] + 1);
  }
  return out + (slices.size() > kMost ? fmt::format(" and {} more", slices.size() - kMost) : "");
}

Usage usage_of_merge() {
  return {"merge",
          "DIR...",
          "Joins slices rendered apart (jovilux render --slice K/N) into the picture that one "
          "render gives, bit for bit:\nimage.exr, view.png, stats.json and rig.resolved.toml "
          "in the folder of -o.",
          {{"o,output", "folder for the results; created", "DIR"},
           {"unfinished",
            "join also slices that were interrupted; their tiles are noisier, or empty",
            ""},
           {"force", "replace results of another rig in the folder", ""},
           {"quiet", "no progress", ""},
           {"json", "print stats.json to standard output instead of the summary", ""}},
          "The slices may lie in one folder or in several. All N are needed.",
          "for k in 1 2; do jovilux render demo-out/rig/orchid-house.toml --size 320x180 "
          "--slice $k/2 -o slices; done; jovilux merge slices -o joined"};
}

// Refuses to go on where slices are missing.
void check_all_there(const std::map<int, std::string>& files,
                     int count,
                     const std::string& folder) {
  std::vector<int> missing;
  for (int i = 0; i < count; ++i) {
    if (files.count(i) == 0) {
      missing.push_back(i);
    }
  }
  if (!missing.empty()) {
    refuse(folder,
           fmt::format("of {} slices {} {} missing: {}",
                       count,
                       missing.size(),
                       missing.size() == 1 ? "is" : "are",
                       listed(missing)),
           "render them, or name their folders too");
  }
}

// The films of all slices in one.
RenderState joined_state(const std::map<int, std::string>& files,
                         const FilmLabel& first,
                         const Rig& rig,
                         const ProgressFn& tell) {
  RenderState state(rig.render.width, rig.render.height, first.layers.size(), parts_of(rig));
  const auto start = std::chrono::steady_clock::now();
  Progress so_far;
  for (const auto& [index, file] : files) {
    if (tell) {
      so_far.seconds =
          std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
      tell(so_far);
      so_far.done += 1.0 / static_cast<double>(files.size());
    }
    const auto label = load_state(file, first, state);
    if (!label) {
      Problems problems = label.problems();
      for (Problem& p : problems) {
        p.hint = "give the slices of one render; render this one again";
      }
      throw BadInput{std::move(problems)};
    }
  }
  return state;
}

// The joined picture with its figures, the last of whose history are the whole picture's.
Render joined_render(RenderState state, const Rig& rig, int camera, const FilmLabel& label) {
  Render out{std::move(state), {}};
  out.stats = stats_of(rig, camera, label.layers, out.state);
  out.stats.threads = out.state.threads;
  auto& history = out.stats.history;
  const auto taken = static_cast<double>(out.state.taken);
  std::erase_if(history, [&](const NoiseMoment& m) { return m.samples >= taken; });
  history.push_back({taken, out.stats.wall_s, out.stats.noise.median, out.stats.noise.p95});
  return out;
}

}  // namespace

int run_merge(int argc, char** argv) {
  const Arguments a(usage_of_merge(), argc, argv);
  const auto folder = a.text("output");
  if (!folder || folder->empty()) {
    throw UsageError("missing -o DIR, the folder for the results; see jovilux merge --help");
  }
  std::vector<FilmLabel> labels;
  const std::map<int, std::string> files = slices_in(a.positionals(), labels);
  const FilmLabel& first = labels[0];
  check_all_there(files, first.share.count, a.positionals()[0]);
  const auto unfinished =
      std::find_if(labels.begin(), labels.end(), [](const FilmLabel& l) { return !l.finished; });
  if (unfinished != labels.end() && !a.flag("unfinished")) {
    refuse(files.at(unfinished->share.index),
           "was interrupted",
           "finish it with jovilux render --slice ... --resume, or join what there is with "
           "--unfinished");
  }
  const fs::path resolved = fs::path(files.begin()->second).parent_path() / "rig.resolved.toml";
  auto rig = load_rig(resolved.string());
  if (!rig) {
    throw BadInput{rig.problems()};
  }
  RenderOptions options;
  options.camera = camera_index(*rig, first.camera);
  ProgressBar bar(a.flag("quiet"));
  RenderState state = joined_state(files, first, *rig, bar.function());
  prepare_folder(*folder, *rig, a.flag("force"));
  Render joined = joined_render(std::move(state), *rig, options.camera, first);
  joined.stats.stopped_by = unfinished == labels.end() ? StoppedBy::kSamples : StoppedBy::kSignal;
  save_render(*folder, *rig, first.layers, options, joined, std::nullopt);
  std::optional<DenoisingReport> denoising;
  if (rig->render.denoise) {
    denoising = denoise_folder(*folder);
  }
  if (a.flag("json")) {
    print_out(stats_json(*rig, joined.stats, rig->render.width, rig->render.height));
  } else {
    print_out(render_summary(
        {std::move(*rig), std::move(joined.stats), first.camera, false, "", denoising}, *folder));
  }
  return kDone;
}

}  // namespace jovilux::cli
