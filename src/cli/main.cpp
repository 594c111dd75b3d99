#include "cli/verbs.h"

int main(int argc, char** argv) { return jovilux::cli::run(argc, argv); }
