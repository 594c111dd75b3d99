#include "jovilux/base/large_array.h"

#include <algorithm>
#include <cstdlib>

#include <sys/mman.h>

namespace jovilux {

void* allocate_large(std::size_t bytes, std::size_t alignment) {
  // Large arrays, such as a film, get pages of 2 MB: a tile of it then needs fewer translations of
  // addresses than with pages of 4 KB.
  constexpr std::size_t kPage = std::size_t{1} << 21;
  const bool large = bytes >= 2 * kPage;
  const std::size_t unit = large ? kPage : std::max(alignment, alignof(std::max_align_t));
  void* p = std::aligned_alloc(unit, (std::max<std::size_t>(bytes, 1) + unit - 1) / unit * unit);
  if (p == nullptr) {
    throw std::bad_alloc();
  }
  if (large) {
    ::madvise(p, bytes, MADV_HUGEPAGE);  // advice: without such pages all works as well
  }
  return p;
}

void free_large(void* p) noexcept { std::free(p); }

}  // namespace jovilux
