#!/usr/bin/env bash
# Installs, configures, builds and runs all tests; ends with CTest's summary.
set -euo pipefail
. "$(dirname "${BASH_SOURCE[0]}")/setup.sh"
ctest --preset release
