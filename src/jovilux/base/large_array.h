#pragma once

#include <cstddef>
#include <new>
#include <vector>

namespace jovilux {

/// Memory on pages of 2 MB where it takes several of them and the system has such: what is read
/// here and there costs fewer look-ups of addresses. Zeroed by nobody; throws std::bad_alloc.
void* allocate_large(std::size_t bytes, std::size_t alignment);
void free_large(void* p) noexcept;

template <class T>
struct LargeAllocator {
  using value_type = T;
  LargeAllocator() = default;
  template <class U>
  explicit LargeAllocator(const LargeAllocator<U>&) {}
  T* allocate(std::size_t n) {
    if (n > static_cast<std::size_t>(-1) / 2 / sizeof(T)) {
      throw std::bad_alloc();
    }
    return static_cast<T*>(allocate_large(n * sizeof(T), alignof(T)));
  }
  void deallocate(T* p, std::size_t) { free_large(p); }
  bool operator==(const LargeAllocator&) const { return true; }
};

/// A vector for what may take many megabytes and is read without order.
template <class T>
using LargeArray = std::vector<T, LargeAllocator<T>>;

}  // namespace jovilux
