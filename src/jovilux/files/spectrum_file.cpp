#include "jovilux/files/spectrum_file.h"

#include "jovilux/base/text.h"
#include "jovilux/files/read_file.h"

#include <algorithm>
#include <sstream>
#include <utility>
#include <vector>

#include <fmt/format.h>
#include <pugixml.hpp>

namespace jovilux {
namespace {

struct Sample {
  double nm = 0, value = 0;
  std::uint32_t line = 0;
};

Problem spectrum_fault(const std::string& path, std::uint32_t line, std::string text) {
  return {Severity::kError, "bad-spectrum", {path, line, 0}, "", std::move(text), ""};
}

Result<NmTable> interpolated(const std::string& path, const std::vector<Sample>& samples) {
  if (samples.size() < 2) {
    return spectrum_fault(
        path, 0, fmt::format("{} values; a spectrum needs at least 2", samples.size()));
  }
  for (std::size_t i = 0; i < samples.size(); ++i) {
    if (samples[i].value < 0) {
      return spectrum_fault(path,
                            samples[i].line,
                            fmt::format("{} nm: the value {} is negative",
                                        short_number(samples[i].nm, 6),
                                        short_number(samples[i].value)));
    }
    if (i > 0 && samples[i].nm <= samples[i - 1].nm) {
      return spectrum_fault(path,
                            samples[i].line,
                            fmt::format("wavelengths: {} nm follows {} nm; they must increase",
                                        short_number(samples[i].nm, 6),
                                        short_number(samples[i - 1].nm, 6)));
    }
  }
  // A table in micrometers or angstroms runs from 0.38 or 3800.
  if (samples.back().nm < 300 || samples.front().nm > 900) {
    return spectrum_fault(path,
                          samples.front().line,
                          fmt::format("wavelengths run from {} to {}; they are in nanometers",
                                      short_number(samples.front().nm),
                                      short_number(samples.back().nm)));
  }
  NmTable out;
  std::size_t j = 0;
  double visible = 0;
  for (std::size_t i = 0; i < kNmCount; ++i) {
    const double nm = kFirstNm + static_cast<double>(i);
    if (nm < samples.front().nm || nm > samples.back().nm) {
      continue;
    }
    while (j + 2 < samples.size() && samples[j + 1].nm < nm) {
      ++j;
    }
    const double t = (nm - samples[j].nm) / (samples[j + 1].nm - samples[j].nm);
    out[i] = (1 - t) * samples[j].value + t * samples[j + 1].value;
    visible += out[i] * color_matching(1)[i];
  }
  // A lamp's output is stated in photometric units, which need light that the eye sees.
  if (!(visible > 0)) {
    return spectrum_fault(path, 0, "the spectrum has no visible light");
  }
  return out;
}

Result<NmTable> read_csv(const std::string& path, const std::string& text) {
  std::vector<Sample> samples;
  std::istringstream in(text);
  std::uint32_t number = 0;
  bool header_seen = false;
  for (std::string line; std::getline(in, line);) {
    ++number;
    // Commas, semicolons, tabs and spaces alike separate the columns.
    for (char& c : line) {
      c = c == ',' || c == ';' || c == '\t' || c == '\r' ? ' ' : c;
    }
    const std::string_view words = trimmed(line);
    if (words.empty() || words[0] == '#') {
      continue;
    }
    const auto space = words.find(' ');
    const auto nm = parse_number(words.substr(0, space));
    const std::string_view rest =
        space == std::string_view::npos ? std::string_view() : trimmed(words.substr(space));
    const auto value = parse_number(rest.substr(0, rest.find(' ')));
    if (!nm || !value) {
      // The first line that is no pair of numbers is a heading; a second one is a fault.
      if (!header_seen && samples.empty()) {
        header_seen = true;
        continue;
      }
      return spectrum_fault(
          path,
          number,
          fmt::format("\"{}\": expected a wavelength in nm and a value", printable(words, 40)));
    }
    samples.push_back({*nm, *value, number});
  }
  return interpolated(path, samples);
}

// The parts of TM-27 that hold the spectrum: SpectralDistribution / SpectralData wavelength="nm".
Result<NmTable> read_spdx(const std::string& path, const std::string& text) {
  pugi::xml_document document;
  const pugi::xml_parse_result parsed =
      document.load_buffer(text.data(), text.size(), pugi::parse_default, pugi::encoding_auto);
  if (!parsed) {
    const auto end =
        text.begin() +
        static_cast<std::ptrdiff_t>(std::min<std::size_t>(
            static_cast<std::size_t>(std::max<std::ptrdiff_t>(0, parsed.offset)), text.size()));
    return spectrum_fault(path,
                          static_cast<std::uint32_t>(1 + std::count(text.begin(), end, '\n')),
                          fmt::format("not XML: {}", parsed.description()));
  }
  const pugi::xml_node distribution = document.document_element().child("SpectralDistribution");
  if (!distribution) {
    return spectrum_fault(path, 0, "not a TM-27 file: it has no SpectralDistribution");
  }
  std::vector<Sample> samples;
  for (const pugi::xml_node data : distribution.children("SpectralData")) {
    const auto nm = parse_number(data.attribute("wavelength").value());
    const auto value = parse_number(data.child_value());
    const auto end = text.begin() +
                     static_cast<std::ptrdiff_t>(std::max<std::ptrdiff_t>(0, data.offset_debug()));
    const auto line = static_cast<std::uint32_t>(1 + std::count(text.begin(), end, '\n'));
    if (!nm || !value) {
      return spectrum_fault(path, line, "SpectralData: expected a wavelength in nm and a number");
    }
    samples.push_back({*nm, *value, line});
  }
  return interpolated(path, samples);
}

}  // namespace

Result<NmTable> load_spectrum(const std::string& path) {
  const auto text = read_file(path, kMaxSpectrumBytes, "bad-spectrum");
  if (!text) {
    return text.problems();
  }
  return file_ending(path) == ".spdx" ? read_spdx(path, *text) : read_csv(path, *text);
}

}  // namespace jovilux
