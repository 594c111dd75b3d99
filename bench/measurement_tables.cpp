#include "bench/measurement_tables.h"

#include "jovilux/files/json.h"

#include <algorithm>
#include <cstdio>
#include <fstream>
#include <stdexcept>
#include <vector>

#include <fmt/format.h>

namespace jovilux {
namespace {

// A table whose rows and columns come as they are met; a cell that is never put stays a dash.
class MarkdownTable {
 public:
  explicit MarkdownTable(std::string corner) : corner_(std::move(corner)) {}

  void put(const std::string& row, const std::string& column, std::string cell) {
    const std::size_t r = index_in(rows_, row), c = index_in(columns_, column);
    cells_.resize(rows_.size());
    cells_[r].resize(std::max(cells_[r].size(), c + 1), "-");
    cells_[r][c] = std::move(cell);
  }

  std::string text() const {
    std::string out = "| " + corner_ + " |", rule = "| --- |";
    for (const std::string& column : columns_) {
      out += " " + column + " |";
      rule += " --- |";
    }
    out += "\n" + rule + "\n";
    for (std::size_t r = 0; r < rows_.size(); ++r) {
      out += "| " + rows_[r] + " |";
      for (std::size_t c = 0; c < columns_.size(); ++c) {
        out += " " + (c < cells_[r].size() ? cells_[r][c] : "-") + " |";
      }
      out += "\n";
    }
    return out;
  }

 private:
  static std::size_t index_in(std::vector<std::string>& names, const std::string& name) {
    const auto it = std::find(names.begin(), names.end(), name);
    const auto at = static_cast<std::size_t>(it - names.begin());
    if (it == names.end()) {
      names.push_back(name);
    }
    return at;
  }

  std::string corner_;
  std::vector<std::string> rows_, columns_;
  std::vector<std::vector<std::string>> cells_;
};

// Tables by caption, in the order in which their first line stands in the file.
class Tables {
 public:
  MarkdownTable& of(const std::string& caption, const std::string& corner) {
    for (auto& [known, table] : tables_) {
      if (known == caption) {
        return table;
      }
    }
    tables_.emplace_back(caption, MarkdownTable(corner));
    return tables_.back().second;
  }

  void print() const {
    std::string out;
    for (const auto& [caption, table] : tables_) {
      out += (out.empty() ? "" : "\n") + caption + "\n\n" + table.text();
    }
    std::fputs(out.c_str(), stdout);
  }

 private:
  std::vector<std::pair<std::string, MarkdownTable>> tables_;
};

void add_rates(const Json& line, Tables& tables) {
  for (const auto& [group, rates] : line.at("rates").items()) {
    std::string caption = group;
    caption[0] = static_cast<char>(std::toupper(static_cast<unsigned char>(caption[0])));
    for (const auto& [name, rate] : rates.items()) {
      tables.of(caption + " in the time of the yardstick:", "commit")
          .put(line.at("commit"), name, fmt::format("{:.0f}", rate.get<double>()));
    }
  }
}

void add_gains(const Json& line, Tables& tables) {
  const std::string caption = fmt::format(
      "Squared error of {} over that of {} after equal time, {} threads (samples a pixel of both):",
      line.at("before").get<std::string>(),
      line.at("after").get<std::string>(),
      line.at("threads").get<int>());
  for (const Json& rig : line.at("rigs")) {
    tables.of(caption, "scene")
        .put(rig.at("scene"),
             fmt::format(
                 "{}, {:g} s", rig.at("size").get<std::string>(), line.at("seconds").get<double>()),
             fmt::format("{:.3g} ({:.0f}, {:.0f})",
                         rig.at("ratio").get<double>(),
                         rig.at("samples_before").get<double>(),
                         rig.at("samples_after").get<double>()));
  }
}

void add_denoising(const Json& line, Tables& tables) {
  const std::string caption = fmt::format(
      "Squared error of {} before denoising over that after it, told error over the true one:",
      line.at("commit").get<std::string>());
  for (const Json& render : line.at("renders")) {
    tables.of(caption, "picture")
        .put(render.at("picture"),
             fmt::format("{} samples", render.at("samples").get<int>()),
             fmt::format("{:.2f} ({:.2f}), {:.2f}",
                         render.at("gain").get<double>(),
                         render.at("gain_of_all").get<double>(),
                         render.at("told").get<double>()));
  }
}

}  // namespace

int print_measurement_tables(const std::string& file) {
  std::ifstream in(file);
  if (!in) {
    throw std::runtime_error("cannot open " + file);
  }
  Tables tables;
  for (std::string text; std::getline(in, text);) {
    const Json line = Json::parse(text);
    const std::string kind = line.at("kind");
    if (kind == "rates") {
      add_rates(line, tables);
    } else if (kind == "gain") {
      add_gains(line, tables);
    } else if (kind == "denoising") {
      add_denoising(line, tables);
    } else {
      throw std::runtime_error(file + ": \"" + kind + "\" is no kind of measurement");
    }
  }
  tables.print();
  return 0;
}

}  // namespace jovilux
