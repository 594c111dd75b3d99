#include "cli/verbs.h"
namespace jovilux::cli { int run_animate(int, char**) { return 0; } }
