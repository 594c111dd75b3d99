#include "ranks/ranks.h"

#include <algorithm>
#include <chrono>
#include <cstdint>
#include <cstdio>
#include <cstdlib>
#include <thread>

#ifdef JOVILUX_MPI
#include <mpi.h>
#endif

namespace jovilux {

const Ranks& Ranks::of_this_run() {
  static const Ranks ranks;
  return ranks;
}

#ifdef JOVILUX_MPI

namespace {

// Polled, so that a signal ends the waiting: mpirun sends one to those that are left when a process
// dies.
bool wait_for(MPI_Request request, const std::function<bool()>& stop) {
  for (int done = 0; done == 0;) {
    MPI_Test(&request, &done, MPI_STATUS_IGNORE);
    if (done == 0) {
      if (stop && stop()) {
        return false;
      }
      std::this_thread::sleep_for(std::chrono::milliseconds(1));
    }
  }
  return true;
}

bool begun = false;

}  // namespace

Ranks::Ranks() {
  // Joining costs a fifth of a second: only where mpirun, or a queue that speaks its protocol, has
  // started us.
  if (std::getenv("OMPI_COMM_WORLD_SIZE") == nullptr && std::getenv("PMIX_RANK") == nullptr) {
    return;
  }
  int provided = 0;
  MPI_Init_thread(nullptr, nullptr, MPI_THREAD_SERIALIZED, &provided);
  begun = true;
  MPI_Comm_rank(MPI_COMM_WORLD, &index_);
  MPI_Comm_size(MPI_COMM_WORLD, &count_);
}

std::optional<std::vector<std::string>> Ranks::exchange(const std::string& mine,
                                                        const std::function<bool()>& stop) const {
  std::vector<std::string> all(static_cast<std::size_t>(count_));
  if (alone()) {
    all[0] = mine;
    return all;
  }
  std::uint64_t size = mine.size();
  std::vector<std::uint64_t> sizes(all.size());
  MPI_Request request;
  MPI_Iallgather(&size, 1, MPI_UINT64_T, sizes.data(), 1, MPI_UINT64_T, MPI_COMM_WORLD, &request);
  if (!wait_for(request, stop)) {
    return std::nullopt;
  }
  constexpr std::uint64_t kPiece = std::uint64_t{1} << 28;  // a count is an int
  for (int rank = 0; rank < count_; ++rank) {
    std::string& bytes = all[static_cast<std::size_t>(rank)];
    if (rank == index_) {
      bytes = mine;
    } else {
      bytes.resize(sizes[static_cast<std::size_t>(rank)]);
    }
    for (std::uint64_t at = 0; at < bytes.size(); at += kPiece) {
      const int count = static_cast<int>(std::min(kPiece, bytes.size() - at));
      MPI_Ibcast(bytes.data() + at, count, MPI_BYTE, rank, MPI_COMM_WORLD, &request);
      if (!wait_for(request, stop)) {
        return std::nullopt;
      }
    }
  }
  return all;
}

void Ranks::leave(int status) const {
  constexpr int kBadInput = 2, kInterrupted = 3, kMachineFailed = 4;
  if (!begun) {
    return;
  }
  if (status == kInterrupted) {
    std::fflush(nullptr);
    std::_Exit(status);
  }
  if (!alone() && (status == kBadInput || status == kMachineFailed)) {
    // The others may wait for this one. The first has most to tell: it goes first.
    std::fflush(nullptr);
    std::this_thread::sleep_for(std::chrono::milliseconds(first() ? 0 : 1000));
    MPI_Abort(MPI_COMM_WORLD, status);
  }
  MPI_Finalize();
}

#else

Ranks::Ranks() = default;

std::optional<std::vector<std::string>> Ranks::exchange(
    const std::string& mine, const std::function<bool()>& /*stop*/) const {
  return std::vector<std::string>{mine};
}

void Ranks::leave(int /*status*/) const {}

#endif

}  // namespace jovilux
