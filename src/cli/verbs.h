#pragma once

#include <span>
#include <string>
#include <string_view>

namespace jovilux::cli {

// Each verb takes its own arguments (argv[0] is the verb) and returns an exit status.
int run_demo(int argc, char** argv);
int run_new(int argc, char** argv);
int run_check(int argc, char** argv);
int run_convert(int argc, char** argv);
int run_color(int argc, char** argv);
int run_falloff(int argc, char** argv);
int run_profile(int argc, char** argv);
int run_render(int argc, char** argv);
int run_read(int argc, char** argv);
int run_false_color(int argc, char** argv);
int run_meter(int argc, char** argv);
int run_why(int argc, char** argv);
int run_shadow(int argc, char** argv);
int run_noise(int argc, char** argv);
int run_compare(int argc, char** argv);
int run_sweep(int argc, char** argv);
int run_balance(int argc, char** argv);
int run_report(int argc, char** argv);
int run_export(int argc, char** argv);
int run_desk(int argc, char** argv);
int run_animate(int argc, char** argv);
int run_watch(int argc, char** argv);
int run_denoise(int argc, char** argv);
int run_merge(int argc, char** argv);
int run_show(int argc, char** argv);
int run_keys(int argc, char** argv);
int run_schema(int argc, char** argv);
int run_completion(int argc, char** argv);

/// A verb by name, its line in the overview, and what runs it.
struct Verb {
  std::string_view name, line;
  int (*run)(int, char**);
};
/// In the order of the work.
std::span<const Verb> all_verbs();
/// What a verb takes, without running it.
struct Usage;
Usage usage_of(const Verb& verb);

/// The whole program: chooses the verb, prints errors, turns exceptions into exit statuses.
int run(int argc, char** argv);

/// The overview that `jovilux --help` prints.
std::string overview();

}  // namespace jovilux::cli
