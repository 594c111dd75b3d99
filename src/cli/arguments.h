#pragma once

#include "jovilux/rig/rig.h"
#include "jovilux/units/text.h"

#include <map>
#include <optional>
#include <stdexcept>
#include <string>
#include <vector>

namespace jovilux::cli {

/// Bad arguments: what is wrong and what to do. Ends the program with exit status 2.
struct UsageError : std::runtime_error {
  using std::runtime_error::runtime_error;
};

/// One option of a verb. `value` empty: a flag.
struct Option {
  std::string names;  ///< "o,output" or "json"
  std::string help;
  std::string value;  ///< what the value is called, such as "DIR"
};

/// What a verb takes, as its --help shows it.
struct Usage {
  std::string verb;
  std::string positional;  ///< "RIG", "IMAGE", ..., "SPEC..." for several, or empty
  std::string summary;     ///< a line
  std::vector<Option> options;
  std::string notes;  ///< after the options; may be empty
  std::string example;

  /// The usage with more options after its own.
  Usage with(const std::vector<Option>& more) &&;
};

/// Thrown instead of parsing while a UsageRequest lives: what a verb takes, for completion and the
/// manual page, without doing its work.
struct UsageAsked {
  Usage usage;
};

/// While one lives, making Arguments throws UsageAsked. One thread only.
class UsageRequest {
 public:
  UsageRequest();
  ~UsageRequest();
  UsageRequest(const UsageRequest&) = delete;
  UsageRequest& operator=(const UsageRequest&) = delete;
};

/// Thrown instead of parsing where --help is among the arguments: what to print. Ends the program
/// with exit status 0.
struct HelpAsked {
  std::string text;
};

/// The arguments of a verb, parsed. Options may be repeated; the last one counts where one is asked
/// for.
class Arguments {
 public:
  /// Throws UsageError, and HelpAsked for --help.
  Arguments(const Usage& usage, int argc, char** argv);

  bool flag(const std::string& name) const { return values_.count(name) > 0; }
  std::optional<std::string> text(const std::string& name) const;
  std::vector<std::string> texts(const std::string& name) const;
  /// The whole text as a number within [lo, hi].
  std::optional<double> number(const std::string& name, double lo, double hi) const;
  std::optional<int> whole(const std::string& name, int lo, int hi) const;
  /// The one positional argument; throws UsageError where it is missing.
  std::string positional() const;
  /// The positional argument where one was given.
  std::optional<std::string> optional_positional() const {
    return positionals_.empty() ? std::nullopt : std::optional(positionals_[0]);
  }
  /// All positional arguments, at least one; throws UsageError without.
  const std::vector<std::string>& positionals() const;

 private:
  Usage usage_;
  std::map<std::string, std::vector<std::string>> values_;
  std::vector<std::string> positionals_;
};

/// --set, --variant: for every verb that reads a rig.
std::vector<Option> rig_options();
RigRequest rig_request(const Arguments& arguments);
/// The meter of the rig that an option names; throws UsageError, with the nearest name.
const MeterSpec& meter_named(const Rig& rig, const std::string& option, const std::string& name);
/// --samples, --size, for the verbs that render; what they set goes to the request's overrides.
std::vector<Option> picture_options();
void add_picture_overrides(const Arguments& arguments, RigRequest& request);
/// A share such as "2 %" or 0.02 in [1e-5, 1]; throws UsageError.
double share_option(const std::string& option, const std::string& text);
/// A value of an option with a unit of one dimension, above 0; a bare number counts in `bare` (0: a
/// unit is needed).
double amount_option(const std::string& option,
                     const std::string& text,
                     Dimension dimension,
                     double bare);

/// --threads N: 0 where not given.
Option threads_option();
/// --denoised, of verbs that read a render's picture.
Option denoised_option();
int threads_of(const Arguments& arguments);

}  // namespace jovilux::cli
