// Feeds the readers with damaged files: seeds from a folder, changed by chance in the ways that
// break readers (bytes, runs, numbers, lines, lengths), the same ones for the same seed of chance.
//
//   jovilux_mutate TARGET SEED_FOLDER COUNT [FIRST [FILE]]     FILE: the last input is kept there
//
// Built by any compiler, with the sanitizers of its preset; the preset `fuzz` searches by coverage
// instead. What crashes is told by the number to begin with: FIRST.
#include "jovilux/base/sampler.h"

#include <algorithm>
#include <chrono>
#include <cstdint>
#include <cstdio>
#include <cstdlib>
#include <filesystem>
#include <fstream>
#include <iterator>
#include <string>
#include <vector>

#include "tests/fuzz/readers.h"
#include <sys/resource.h>

namespace {

using jovilux::Rng;

std::size_t below(Rng& rng, std::size_t count) {
  return count == 0 ? 0 : static_cast<std::size_t>(rng.uniform() * static_cast<double>(count));
}

// Numbers at which readers overflow, divide or take too much memory.
const std::vector<std::string> kNumbers = {"0",
                                           "-1",
                                           "1e308",
                                           "-1e308",
                                           "nan",
                                           "inf",
                                           "1e-308",
                                           "99999999",
                                           "4294967295",
                                           "2147483648",
                                           "1e39",
                                           "0x7fffffff"};

void change_number(std::string& text, Rng& rng) {
  std::vector<std::size_t> digits;
  for (std::size_t i = 0; i < text.size(); ++i) {
    if (text[i] >= '0' && text[i] <= '9' && (i == 0 || text[i - 1] < '0' || text[i - 1] > '9')) {
      digits.push_back(i);
    }
  }
  if (digits.empty()) {
    return;
  }
  const std::size_t at = digits[below(rng, digits.size())];
  const std::size_t end = std::min(text.find_first_not_of("0123456789.eE+-", at), text.size());
  text.replace(at, end - at, kNumbers[below(rng, kNumbers.size())]);
}

void change_once(std::string& text, const std::string& other, Rng& rng) {
  if (text.empty()) {
    text = other;
    return;
  }
  const std::size_t at = below(rng, text.size());
  const std::size_t run = std::min(text.size() - at, 1 + below(rng, 64));
  switch (below(rng, 8)) {
    case 0:
      text[at] = static_cast<char>(below(rng, 256));
      break;
    case 1:
      text[at] = static_cast<char>(text[at] ^ (1 << below(rng, 8)));
      break;
    case 2:
      text.erase(at, run);
      break;
    case 3:
      text.insert(at, text.substr(below(rng, text.size()), run));
      break;
    case 4:
      text.resize(at);
      break;
    case 5:
      if (!other.empty()) {
        text.replace(at, run, other.substr(below(rng, other.size()), run));
      }
      break;
    case 6:
      change_number(text, rng);
      break;
    default:  // a binary length of 4 bytes
      for (std::size_t i = at; i < std::min(at + 4, text.size()); ++i) {
        text[i] = below(rng, 2) == 0 ? '\xff' : '\0';
      }
  }
}

std::vector<std::string> seeds_in(const std::string& folder) {
  std::vector<std::filesystem::path> files;
  for (const auto& entry : std::filesystem::directory_iterator(folder)) {
    files.push_back(entry.path());
  }
  std::sort(files.begin(), files.end());
  std::vector<std::string> out;
  for (const auto& file : files) {
    std::ifstream in(file, std::ios::binary);
    out.emplace_back(std::istreambuf_iterator<char>(in), std::istreambuf_iterator<char>());
  }
  return out;
}

}  // namespace

int main(int argc, char** argv) {
  if (argc < 4) {
    std::fprintf(stderr, "usage: jovilux_mutate TARGET SEED_FOLDER COUNT [FIRST]\n");
    return 2;
  }
  const std::string target = argv[1];
  const std::vector<std::string> seeds = seeds_in(argv[2]);
  const std::uint64_t count = std::strtoull(argv[3], nullptr, 10),
                      first = argc > 4 ? std::strtoull(argv[4], nullptr, 10) : 0;
  if (seeds.empty()) {
    std::fprintf(stderr, "%s holds no seeds\n", argv[2]);
    return 2;
  }
  double slowest = 0;
  std::uint64_t slowest_number = 0;
  std::fflush(stdout);
  for (std::uint64_t n = first; n < first + count; ++n) {
    // Told before it is read, in place: what ends this program has been named.
    std::fprintf(stderr, "\r%s %llu", target.c_str(), static_cast<unsigned long long>(n));
    Rng rng(n + 1);
    std::string text = seeds[below(rng, seeds.size())];
    const std::string& other = seeds[below(rng, seeds.size())];
    for (std::size_t changes = 1 + below(rng, 6); changes > 0; --changes) {
      change_once(text, other, rng);
    }
    if (argc > 5 && n + 1 == first + count) {
      std::ofstream(argv[5], std::ios::binary) << text;
    }
    const auto start = std::chrono::steady_clock::now();
    jovilux::fuzz::read(target, text);
    const double seconds =
        std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
    if (seconds > slowest) {
      slowest = seconds;
      slowest_number = n;
    }
  }
  rusage usage{};
  ::getrusage(RUSAGE_SELF, &usage);
  std::fprintf(stderr,
               "\r%s: %llu inputs, the slowest (%llu) took %.2f s, at most %ld MB\n",
               target.c_str(),
               static_cast<unsigned long long>(count),
               static_cast<unsigned long long>(slowest_number),
               slowest,
               usage.ru_maxrss / 1024);
  constexpr double kHang = 20;
  return slowest > kHang ? 1 : 0;
}
