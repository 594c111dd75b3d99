#include "cli/verbs.h"

#include "jovilux/base/text.h"
#include "jovilux/files/atomic_file.h"

#include <csignal>
#include <new>
#include <string_view>
#include <vector>

#include "cli/arguments.h"
#include "cli/output.h"
#include "ranks/ranks.h"
#include <fmt/format.h>

namespace jovilux::cli {
namespace {

// In the order of the work.
constexpr Verb kVerbs[] = {
    {"demo", "write the orchid house and run the whole loop on it", run_demo},
    {"new", "write a small commented rig that renders at once", run_new},
    {"check", "find errors and mistakes; list each light in real units", run_check},
    {"convert", "the same light in lm, cd, cd/m2, lx, EV and W", run_convert},
    {"profile", "photometric files: figures, faults, conversion, design", run_profile},
    {"falloff", "a light over distance, against the inverse square", run_falloff},
    {"color", "whites, spectra, gels and colors in figures", run_color},
    {"render", "trace the rig: image.exr, view.png, stats.json", run_render},
    {"denoise", "remove a render's noise, and tell the error that is left", run_denoise},
    {"read", "luminances of an image, as a spot meter reads them", run_read},
    {"false-color", "luminance in bands of stops or cd/m2, with a legend", run_false_color},
    {"meter", "lux and cd/m2 at the rig's meters, against their targets", run_meter},
    {"why", "where the light at a pixel comes from, and what keeps it away", run_why},
    {"shadow", "what objects leave of the light on surfaces of a real place", run_shadow},
    {"noise", "where the noise is, which light makes it, what a target takes", run_noise},
    {"compare", "two pictures: stops, color, and whether noise explains it", run_compare},
    {"sweep", "one or two parameters: contact sheet, curves, readings", run_sweep},
    {"balance", "new levels and colors from a render's layers", run_balance},
    {"desk", "a page to balance a render by hand, with faders", run_desk},
    {"animate", "frames over time, a clip, each light's level and flicker", run_animate},
    {"watch", "render again at each save, and say what changed", run_watch},
    {"merge", "join slices that were rendered apart", run_merge},
    {"export", "the lights for other tools: glTF, USD, a schedule", run_export},
    {"report", "one HTML page of renders: pictures, lights, meters, noise", run_report},
    {"show", "the picture in the terminal", run_show},
    {"keys", "the rig's keys that have to do with a word of yours", run_keys},
    {"schema", "a JSON Schema of the rig, for editors", run_schema},
    {"completion", "completion for bash, zsh and fish, and the manual page", run_completion},
};

}  // namespace

std::span<const Verb> all_verbs() { return kVerbs; }

Usage usage_of(const Verb& verb) {
  const UsageRequest request;
  std::string name(verb.name);
  char* argv[] = {name.data(), nullptr};
  try {
    verb.run(1, argv);
  } catch (const UsageAsked& asked) {
    return asked.usage;
  }
  return {};
}

std::string overview() {
  std::string out =
      "jovilux: light rigs in real units, path traced, with numbers to trust\n\n"
      "  jovilux VERB [arguments] [options]\n\nVerbs, in working order:\n";
  for (const Verb& v : kVerbs) {
    out += fmt::format("  {:<12} {}\n", v.name, v.line);
  }
  return out +
         "\n  jovilux VERB --help   options with their units, and an example\n"
         "  jovilux --version\n\n"
         "Begin with:  jovilux new my-rig && jovilux render my-rig/rig.toml -o my-rig/out\n";
}

namespace {

int run_verb(int argc, char** argv);

}  // namespace

int run(int argc, char** argv) {
  const int status = run_verb(argc, argv);
  // Processes of mpirun end together, or the others are told to.
  Ranks::of_this_run().leave(status);
  return status;
}

namespace {

int run_verb(int argc, char** argv) {
  // A pipe that closes early and a file that may not grow are errors to report, not deaths.
  std::signal(SIGPIPE, SIG_IGN);
  std::signal(SIGXFSZ, SIG_IGN);
  const std::string_view first = argc > 1 ? argv[1] : "";
  try {
    if (first.empty() || first == "--help" || first == "-h" || first == "help") {
      (first.empty() ? print_err : print_out)(overview());
      return first.empty() ? kBadInput : kDone;
    }
    if (first == "--version") {
      print_out("jovilux " JOVILUX_VERSION "\n");
      return kDone;
    }
    std::vector<std::string> names;
    for (const Verb& v : kVerbs) {
      if (v.name == first) {
        return v.run(argc - 1, argv + 1);
      }
      names.emplace_back(v.name);
    }
    const std::string hint = did_you_mean(first, names);
    print_err(fmt::format("error: unknown verb \"{}\"; {}\n",
                          printable(first),
                          hint.empty() ? "see jovilux --help" : hint));
    return kBadInput;
  } catch (const HelpAsked& help) {
    print_out(help.text);
    return kDone;
  } catch (const UsageError& e) {
    print_err(fmt::format("error: {}\n", e.what()));
    return kBadInput;
  } catch (const BadInput& e) {
    print_problems(e.problems);
    return kBadInput;
  } catch (const MachineTrouble& e) {
    print_err(fmt::format("failed: {}\n", e.what()));
    return kMachineFailed;
  } catch (const std::bad_alloc&) {
    print_err("failed: not enough memory; render a smaller picture or fewer layers\n");
    return kMachineFailed;
  } catch (const std::exception& e) {
    print_err(fmt::format("failed: {}\n", e.what()));
    return kMachineFailed;
  }
}

}  // namespace

}  // namespace jovilux::cli
