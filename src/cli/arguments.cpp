#include "cli/arguments.h"

#include "jovilux/base/text.h"
#include "jovilux/files/exr.h"

#include <algorithm>
#include <cmath>

// Values of lists are whole words: no argument holds a zero byte, so that none is split.
#define CXXOPTS_VECTOR_DELIMITER '\0'
#include <cxxopts.hpp>
#include <fmt/format.h>

namespace jovilux::cli {
namespace {

// Asked by what lists options (completion, man page): a verb then tells its usage and does nothing
// else.
bool g_usage_asked = false;

// The long name of "o,output".
std::string key_of(const Option& option) {
  const auto comma = option.names.find(',');
  return comma == std::string::npos ? option.names : option.names.substr(comma + 1);
}

// The arguments, with "-oDIR" as "-o", "DIR": the library takes letters and digits alone for what
// follows a short option, and refuses "-oout/a".
std::vector<std::string> with_values_apart(const Usage& usage, int argc, char** argv) {
  std::vector<std::string> words = {"jovilux"};
  bool is_value = false;
  for (int i = 1; i < argc; ++i) {
    const std::string_view word = argv[i];
    if (word == "--") {  // what follows are no options
      words.insert(words.end(), argv + i, argv + argc);
      break;
    }
    if (is_value || word.size() < 2 || word[0] != '-') {
      words.emplace_back(word);
      is_value = false;
      continue;
    }
    const auto option =
        std::find_if(usage.options.begin(), usage.options.end(), [&](const Option& o) {
          return !o.value.empty() &&
                 (word == "--" + key_of(o) || (o.names[1] == ',' && word[1] == o.names[0]));
        });
    const bool takes_value = option != usage.options.end();
    const bool joined = takes_value && word.size() > 2 && word[1] != '-';
    words.emplace_back(joined ? word.substr(0, 2) : word);
    if (joined) {
      words.emplace_back(word.substr(2));
    }
    is_value = takes_value && !joined;
  }
  return words;
}

// An option at the end of the command line that asks for a value.
UsageError without_value(const Usage& usage, const std::string& last) {
  for (const Option& o : usage.options) {
    if (last == "--" + key_of(o) || (o.names[1] == ',' && last[1] == o.names[0])) {
      return UsageError(fmt::format("{} needs a value: {} {}", last, last, o.value));
    }
  }
  return UsageError(fmt::format("{} needs a value; see jovilux {} --help", last, usage.verb));
}

// `what` the parser says, with its quotes made plain, and the option that was likely meant.
UsageError not_understood(const Usage& usage,
                          const std::vector<std::string>& words,
                          std::string what) {
  std::vector<std::string> names;
  for (const Option& o : usage.options) {
    names.push_back("--" + key_of(o));
  }
  const auto unknown = std::find_if(words.begin() + 1, words.end(), [&](const std::string& word) {
    return word.starts_with("--") && std::find(names.begin(), names.end(), word) == names.end();
  });
  const std::string hint = unknown == words.end() ? "" : did_you_mean(*unknown, names);
  // The parser quotes with typographic marks, which not every terminal shows.
  for (const char* quote : {"\u2018", "\u2019"}) {
    for (auto at = what.find(quote); at != std::string::npos; at = what.find(quote)) {
      what.replace(at, 3, "\"");
    }
  }
  return UsageError(
      fmt::format("{}; {}see jovilux {} --help", what, hint.empty() ? "" : hint + " ", usage.verb));
}

}  // namespace

UsageRequest::UsageRequest() { g_usage_asked = true; }
UsageRequest::~UsageRequest() { g_usage_asked = false; }

namespace {

cxxopts::Options parser_of(const Usage& usage) {
  cxxopts::Options parser("jovilux " + usage.verb, usage.summary);
  parser.set_width(100);
  auto add = parser.add_options();
  for (const Option& o : usage.options) {
    if (o.value.empty()) {
      add(o.names, o.help);
    } else {
      add(o.names, o.help, cxxopts::value<std::vector<std::string>>(), o.value);
    }
  }
  add("h,help", "this text");
  parser.add_options("hidden")("positional", "", cxxopts::value<std::vector<std::string>>());
  parser.parse_positional({"positional"});
  parser.positional_help(usage.positional).custom_help("[options]");
  return parser;
}

std::string help_text(const Usage& usage, const cxxopts::Options& parser) {
  return parser.help({""}) + (usage.notes.empty() ? "" : "\n" + usage.notes + "\n") +
         "\nExample:\n  " + usage.example + "\n";
}

}  // namespace

Usage Usage::with(const std::vector<Option>& more) && {
  options.insert(options.end(), more.begin(), more.end());
  return std::move(*this);
}

Arguments::Arguments(const Usage& usage, int argc, char** argv) : usage_(usage) {
  if (g_usage_asked) {
    throw UsageAsked{usage};
  }
  cxxopts::Options parser = parser_of(usage);
  const std::vector<std::string> words = with_values_apart(usage, argc, argv);
  std::vector<const char*> pointers;
  for (const std::string& word : words) {
    pointers.push_back(word.c_str());
  }
  try {
    const auto result = parser.parse(static_cast<int>(pointers.size()), pointers.data());
    if (result.count("help") > 0) {
      throw HelpAsked{help_text(usage, parser)};
    }
    for (const Option& o : usage.options) {
      if (result.count(key_of(o)) > 0) {
        values_[key_of(o)] = o.value.empty() ? std::vector<std::string>{}
                                             : result[key_of(o)].as<std::vector<std::string>>();
      }
    }
    if (result.count("positional") > 0) {
      positionals_ = result["positional"].as<std::vector<std::string>>();
    }
  } catch (const cxxopts::exceptions::missing_argument&) {
    throw without_value(usage, words.back());
  } catch (const cxxopts::exceptions::exception& e) {
    throw not_understood(usage, words, e.what());
  }
  if (!usage.positional.ends_with("...") &&
      positionals_.size() > (usage.positional.empty() ? 0U : 1U)) {
    throw UsageError(fmt::format("unexpected argument \"{}\"; see jovilux {} --help",
                                 printable(positionals_.back()),
                                 usage.verb));
  }
}

std::optional<std::string> Arguments::text(const std::string& name) const {
  const auto it = values_.find(name);
  return it == values_.end() || it->second.empty() ? std::nullopt
                                                   : std::optional(it->second.back());
}

std::vector<std::string> Arguments::texts(const std::string& name) const {
  const auto it = values_.find(name);
  return it == values_.end() ? std::vector<std::string>{} : it->second;
}

std::optional<double> Arguments::number(const std::string& name, double lo, double hi) const {
  const auto value = text(name);
  if (!value) {
    return std::nullopt;
  }
  const auto parsed = parse_number(*value);
  if (!parsed || *parsed < lo || *parsed > hi) {
    throw UsageError(fmt::format("--{}: found \"{}\"; expected a number from {} to {}",
                                 name,
                                 printable(*value),
                                 short_number(lo, 6),
                                 short_number(hi, 6)));
  }
  return parsed;
}

std::optional<int> Arguments::whole(const std::string& name, int lo, int hi) const {
  const auto value = number(name, lo, hi);
  if (value && *value != std::floor(*value)) {
    throw UsageError(
        fmt::format("--{}: found \"{}\"; expected a whole number", name, short_number(*value)));
  }
  return value ? std::optional(static_cast<int>(*value)) : std::nullopt;
}

std::string Arguments::positional() const { return positionals()[0]; }

const std::vector<std::string>& Arguments::positionals() const {
  if (positionals_.empty()) {
    throw UsageError(
        fmt::format("missing {}; see jovilux {} --help", usage_.positional, usage_.verb));
  }
  return positionals_;
}

std::vector<Option> rig_options() {
  return {{"set",
           "override a value of the rig, such as light.pendant.dimmer=0.5; repeatable",
           "ADDRESS=VALUE"},
          {"variant", "apply a [[variant]] of the rig; repeatable", "NAME"}};
}

std::vector<Option> picture_options() {
  return {{"samples", "samples per pixel, instead of the rig's", "N"},
          {"size", "picture size, instead of the rig's, such as 640x360", "WxH"}};
}

void add_picture_overrides(const Arguments& arguments, RigRequest& request) {
  if (const auto samples = arguments.whole("samples", 1, 1 << 20)) {
    request.overrides.push_back(fmt::format("render.samples={}", *samples));
  }
  if (const auto size = arguments.text("size")) {
    const auto cross = size->find('x');
    request.overrides.push_back(
        fmt::format("render.size=[{}, {}]",
                    size->substr(0, cross),
                    cross == std::string::npos ? "" : size->substr(cross + 1)));
  }
}

// 0.001 % to 100 %: a bare 2 is a slip for "2 %".
double share_option(const std::string& option, const std::string& text) {
  const auto amount = parse_amount(text);
  const auto* share = std::get_if<Amount>(&amount);
  const double value = share != nullptr && share->dimension == Dimension::kPercent
                           ? share->value
                           : parse_number(text).value_or(0);
  if (!(value >= 1e-5 && value <= 1)) {
    throw UsageError(fmt::format(
        "{}: found \"{}\"; expected a share such as \"2 %\" or 0.02, from 0.001 % to 100 %",
        option,
        printable(text)));
  }
  return value;
}

RigRequest rig_request(const Arguments& arguments) {
  RigRequest request;
  request.variants = arguments.texts("variant");
  request.overrides = arguments.texts("set");
  return request;
}

const MeterSpec& meter_named(const Rig& rig, const std::string& option, const std::string& name) {
  std::vector<std::string> names;
  for (const MeterSpec& m : rig.meters) {
    if (m.name == name) {
      return m;
    }
    names.push_back(m.name);
  }
  const std::string hint = did_you_mean(name, names);
  throw UsageError(fmt::format("{}: the rig has no meter \"{}\"{}",
                               option,
                               printable(name),
                               hint.empty() ? "" : "; " + hint));
}

double amount_option(const std::string& option,
                     const std::string& text,
                     Dimension dimension,
                     double bare) {
  const auto parsed = parse_amount(text);
  double value = 0;
  if (const auto* a = std::get_if<Amount>(&parsed); a != nullptr && a->dimension == dimension) {
    value = a->value;
  } else if (const auto number = parse_number(text); number && bare > 0) {
    value = *number * bare;
  } else {
    throw UsageError(fmt::format(
        "{}: found \"{}\"; expected {}", option, printable(text), expected_units(dimension)));
  }
  if (!(value > 0)) {
    throw UsageError(
        fmt::format("{}: found \"{}\"; expected a value above 0", option, printable(text)));
  }
  return value;
}

Option denoised_option() {
  return {"denoised", "take the render's denoised picture, with the error it tells", ""};
}

Option threads_option() { return {"threads", "use at most N threads; all by default", "N"}; }

int threads_of(const Arguments& arguments) {
  const int threads = arguments.whole("threads", 1, 1024).value_or(0);
  limit_exr_threads(threads);
  return threads;
}

}  // namespace jovilux::cli
