#include "cli/verbs.h"
namespace jovilux::cli { int run_watch(int, char**) { return 0; } }
