#include "jovilux/base/text.h"

#include <algorithm>
#include <string_view>

#include "cli/arguments.h"
#include "cli/completion_words.h"
#include "cli/output.h"
#include "cli/verbs.h"
#include <fmt/format.h>

namespace jovilux::cli {
namespace {

// A candidate that ends in "." or "=" goes on; others get a space.
constexpr std::string_view kBash = R"~(# Completion of jovilux for bash.
_jovilux() {
  local IFS=$'\n' word
  COMPREPLY=()
  # bash takes an address apart at "=": what is before it belongs to the word.
  local -a words=("${COMP_WORDS[@]:0:COMP_CWORD+1}")
  for word in $(jovilux completion --words "${words[@]}" 2>/dev/null); do
    word=${word%%$'\t'*}
    case $word in
      *[.=]) COMPREPLY+=("$word") ;;
      *) COMPREPLY+=("$word ") ;;
    esac
  done
}
complete -o nospace -o default -F _jovilux jovilux
)~";

// clang-format off: the script's lines are its own.
constexpr std::string_view kZsh = R"~(#compdef jovilux
# Completion of jovilux for zsh.
_jovilux() {
  local line
  local -a going_on whole
  for line in ${(f)"$(jovilux completion --words "${words[@]:0:$CURRENT}" 2>/dev/null)"}; do
    line=${line%%$'\t'*}
    case $line in
      *[.=]) going_on+=("$line") ;;
      *) whole+=("$line") ;;
    esac
  done
  if (( ${#going_on} + ${#whole} == 0 )); then
    _files
    return
  fi
  compadd -S '' -- "${going_on[@]}"
  compadd -- "${whole[@]}"
}
compdef _jovilux jovilux
)~";
// clang-format on

constexpr std::string_view kFish = R"~(# Completion of jovilux for fish.
function __jovilux_words
  jovilux completion --words (commandline -opc) (commandline -ct) 2>/dev/null
end
complete -c jovilux -a '(__jovilux_words)'
)~";

// Text in a manual page: "-" is a minus, a leading "." would be a command. Lines are joined, or
// kept.
std::string roff(std::string_view text, bool keep_lines = false) {
  std::string out;
  for (const char c : text) {
    if (c == '\\') {
      out += "\\e";
    } else if (c == '-') {
      out += "\\-";
    } else {
      out += c == '\n' && !keep_lines ? ' ' : c;
    }
  }
  return out.starts_with(".") || out.starts_with("'") ? "\\&" + out : out;
}

std::string option_in_manual(const Option& option) {
  const auto comma = option.names.find(',');
  const std::string names =
      comma == std::string::npos
          ? "--" + option.names
          : "-" + option.names.substr(0, comma) + ", --" + option.names.substr(comma + 1);
  return fmt::format(".TP\n.B {}{}\n{}\n",
                     roff(names),
                     option.value.empty() ? "" : fmt::format(" \\fI{}\\fR", roff(option.value)),
                     roff(option.help));
}

std::string manual_page() {
  std::string out = fmt::format(
      ".TH JOVILUX 1 \"\" \"jovilux {}\"\n"
      ".SH NAME\njovilux \\- light rigs in real units, path traced, with numbers to trust\n"
      ".SH SYNOPSIS\n.B jovilux\n.I VERB\n[arguments] [options]\n"
      ".SH DESCRIPTION\n"
      "A rig is a TOML file of lights in lumens, candela, lux and cd/m2, of objects, materials "
      "and "
      "haze. jovilux checks it, renders it, reads luminances, finds the noise, compares, "
      "rebalances and reports. The verbs, in the order of the work:\n",
      JOVILUX_VERSION);
  for (const Verb& verb : all_verbs()) {
    const Usage usage = usage_of(verb);
    out += fmt::format(".SS jovilux {} {} [options]\n{}\n.PP\n",
                       roff(verb.name),
                       roff(usage.positional),
                       roff(usage.summary));
    for (const Option& option : usage.options) {
      out += option_in_manual(option);
    }
    out += usage.notes.empty() ? "" : fmt::format(".PP\n.nf\n{}\n.fi\n", roff(usage.notes, true));
    out += fmt::format(".PP\n.EX\n{}\n.EE\n", roff(usage.example));
  }
  return out +
         ".SH EXIT STATUS\n"
         "0 done; 1 done, but a check or target fell short; 2 bad arguments or bad input, "
         "nothing "
         "was written; 3 interrupted, with what was finished saved; 4 the machine failed.\n"
         ".SH SEE ALSO\njovilux keys tells the keys of a rig by words of yours; jovilux schema "
         "writes them for editors.\n";
}

Usage usage_of_completion() {
  return Usage{"completion",
               "SHELL",
               "What a shell needs to complete verbs, options, addresses after --set and the names "
               "of a rig:\nbash, zsh or fish. Or man: the manual page.",
               {},
               "Installed with the program where the system looks for them. By hand:\n  bash   "
               "eval \"$(jovilux completion bash)\" in ~/.bashrc\n  zsh    eval \"$(jovilux "
               "completion zsh)\" in ~/.zshrc, after compinit\n  fish   jovilux completion fish > "
               "~/.config/fish/completions/jovilux.fish",
               "jovilux completion bash"};
}

}  // namespace

int run_completion(int argc, char** argv) {
  // The scripts ask so, with words that would be options here.
  if (argc > 1 && std::string_view(argv[1]) == "--words") {
    for (const std::string& word : completions({argv + 2, argv + argc})) {
      print_out(word + "\n");
    }
    return kDone;
  }
  const Arguments arguments(usage_of_completion(), argc, argv);
  const std::string shell = arguments.positional();
  if (shell == "man") {
    print_out(manual_page());
  } else if (shell == "bash" || shell == "zsh" || shell == "fish") {
    print_out(shell == "bash" ? kBash : shell == "zsh" ? kZsh : kFish);
  } else {
    throw UsageError(fmt::format("found \"{}\"; expected bash, zsh, fish or man; {}",
                                 printable(shell, 40),
                                 did_you_mean(shell, {"bash", "zsh", "fish", "man"})));
  }
  return kDone;
}

}  // namespace jovilux::cli
