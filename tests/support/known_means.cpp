#include "tests/support/known_means.h"

#include <cstdint>
#include <cstdlib>
#include <fstream>

#include <catch2/catch.hpp>
#include <fmt/format.h>
#include <nlohmann/json.hpp>

using nlohmann::json;

namespace jovilux::test {
namespace {

// Pictures of a measured mean, in those that a comparison would render: its error is small beside
// that of the pictures which are compared with it.
constexpr int kMeasuredFactor = 8;

const std::string kMeans = JOVILUX_SOURCE "/tests/truths/plain_means.json";

// FNV-1a, 64 bits (Fowler, Noll, Vo): the same on every machine, unlike std::hash.
std::string hash_of(const std::string& text) {
  std::uint64_t hash = 14695981039346656037U;
  for (const char c : text) {
    hash = (hash ^ static_cast<unsigned char>(c)) * 1099511628211U;
  }
  return fmt::format("{:016x}", hash);
}

json read_means(const std::string& path) {
  std::ifstream in(path);
  return in ? json::parse(in) : json::object();
}

KnownMean measured(const std::string& path,
                   const std::string& name,
                   const std::string& text,
                   const std::function<KnownMean(int)>& measure) {
  const KnownMean mean = measure(kMeasuredFactor);
  json all = read_means(path);
  all[name] = {{"mean", mean.value},
               {"standard_error", mean.error},
               {"noise", mean.noise},
               {"scene", hash_of(text)}};
  std::ofstream(path) << all.dump(1) << '\n';
  return mean;
}

}  // namespace

KnownMean known_mean(const std::string& name,
                     const std::string& text,
                     const std::function<KnownMean(int)>& measure) {
  if (const char* path = std::getenv("JOVILUX_MEASURE_MEANS")) {
    return measured(path, name, text, measure);
  }
  static const json all = read_means(kMeans);
  INFO("'" << name << "' in " << kMeans << "; to measure it: JOVILUX_MEASURE_MEANS=" << kMeans);
  REQUIRE(all.contains(name));
  const json& known = all[name];
  REQUIRE(known["scene"] == hash_of(text));
  return {known["mean"].get<double>(),
          known["standard_error"].get<double>(),
          known["noise"].get<double>()};
}

}  // namespace jovilux::test
