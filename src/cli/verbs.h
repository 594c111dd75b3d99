#pragma once

#include <string>

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
int run_noise(int argc, char** argv);
int run_compare(int argc, char** argv);
int run_sweep(int argc, char** argv);
int run_balance(int argc, char** argv);
int run_report(int argc, char** argv);
int run_animate(int argc, char** argv);
int run_watch(int argc, char** argv);
int run_denoise(int argc, char** argv);
int run_merge(int argc, char** argv);
int run_show(int argc, char** argv);

/// The whole program: chooses the verb, prints errors, turns exceptions into exit statuses.
int run(int argc, char** argv);

/// The overview that `jovilux --help` prints.
std::string overview();

}  // namespace jovilux::cli
