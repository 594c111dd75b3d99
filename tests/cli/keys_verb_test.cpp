// The rig's words by the built program: keys, schema, completion, the manual page.
#include <sstream>

#include "tests/support/program.h"
#include <catch2/catch.hpp>

using jovilux::test::ProgramRun;
using jovilux::test::run_other;
using jovilux::test::run_program;
using jovilux::test::TemporaryFolder;

namespace {

std::vector<std::string> lines_of(const std::string& text) {
  std::vector<std::string> out;
  std::istringstream in(text);
  for (std::string line; std::getline(in, line);) {
    out.push_back(line.substr(0, line.find('\t')));
  }
  return out;
}

bool has(const std::vector<std::string>& lines, const std::string& line) {
  return std::find(lines.begin(), lines.end(), line) != lines.end();
}

const std::string kRigForKeysVerb =
    "jovilux = 1\n[[camera]]\nname = 'wide'\nat = [0, -4, 1]\nlook_at = [0, 0, 1]\n"
    "[[object]]\nname = 'floor'\nshape = { kind = 'plane' }\n"
    "[[light]]\nname = 'pendant'\nkind = 'point'\nat = [0, 0, 2]\noutput = '800 lm'\n"
    "[[variant]]\nname = 'dark'\nset = { 'light.pendant.dimmer' = 0.1 }\n";

}  // namespace

TEST_CASE("keys finds the rig's keys by a word, and says where there is none", "[cli][keys]") {
  const ProgramRun run = run_program({"keys", "temperature"});
  CHECK(run.status == 0);
  CHECK(run.out.find("light.NAME.white") != std::string::npos);
  CHECK(run.out.find("white = \"2700 K\"") != std::string::npos);
  CHECK(run_program({"keys", "zzz"}).status == 1);
  CHECK(run_program({"keys", "zzz"}).err.find("jovilux keys lists all") != std::string::npos);
  const auto all = run_program({"keys", "--json"}).json();
  CHECK(all["keys"].size() > 200);
  const auto fog = run_program({"keys", "fog", "--json"}).json();
  CHECK(fog["keys"][0]["address"] == "haze");
  // Advice where a word stands for several keys.
  CHECK(run_program({"keys", "color"}).out.find("tint = \"#ffb070\" or gel") != std::string::npos);
}

TEST_CASE("the schema is JSON that knows each table, and pages are rewritten", "[cli][schema]") {
  const TemporaryFolder dir;
  const auto schema = run_program({"schema"}).json();
  CHECK(schema["$schema"].get<std::string>().find("draft-07") != std::string::npos);
  const auto& light = schema["properties"]["light"]["items"];
  CHECK(light["additionalProperties"] == false);
  CHECK(light["properties"]["kind"]["enum"].size() == 10);
  CHECK(light["properties"]["near_softening"]["anyOf"][0]["type"].size() == 2);
  CHECK(light["properties"]["falloff"]["anyOf"][1]["properties"]["law"]["enum"][0] ==
        "inverse-square");
  CHECK(light["properties"]["size"]["examples"][0][0] == "60 cm");
  CHECK(schema["definitions"]["keyed"]["properties"]["ease"]["enum"].size() == 3);
  CHECK(run_program({"schema", "-o", dir.path("s.json")}).status == 0);
  CHECK(nlohmann::json::parse(dir.read("s.json")) == schema);
  CHECK(run_program({"schema", "-o", dir.path("s.json")}).status == 2);
  dir.write("p.md", "# Gels\n<!-- keys: gel -->\n<!-- end of keys -->\n");
  CHECK(run_program({"schema", "--pages", dir.path("p.md")}).status == 0);
  CHECK(dir.read("p.md").find("| `points` |") != std::string::npos);
  dir.write("bad.md", "<!-- keys: lamps -->\n");
  const ProgramRun bad = run_program({"schema", "--pages", dir.path("bad.md")});
  CHECK(bad.status == 2);
  CHECK(bad.err.find("bad.md:1:1") != std::string::npos);
}

TEST_CASE("a new rig names its schema and checks as before", "[cli][schema]") {
  const TemporaryFolder dir;
  REQUIRE(run_program({"new", dir.path("n")}).status == 0);
  CHECK(dir.read("n/rig.toml").starts_with("#:schema rig.schema.json\n"));
  CHECK(nlohmann::json::parse(dir.read("n/rig.schema.json"))["title"] == "Jovilux rig");
  CHECK(run_program({"check", dir.path("n/rig.toml"), "--strict"}).status == 0);
  // A file of that name that is not ours stays.
  dir.write("m/rig.schema.json", "mine");
  REQUIRE(run_program({"new", dir.path("m")}).status == 0);
  CHECK(dir.read("m/rig.schema.json") == "mine");
}

TEST_CASE("completion knows verbs, options, addresses and the rig's names", "[cli][completion]") {
  const TemporaryFolder dir;
  const std::string rig = dir.write("r.toml", kRigForKeysVerb);
  const auto words = [&](std::vector<std::string> typed) {
    typed.insert(typed.begin(), {"completion", "--words", "jovilux"});
    return lines_of(run_program(typed).out);
  };
  CHECK(words({"ren"}) == std::vector<std::string>{"render"});
  CHECK(has(words({"render", "--den"}), "--denoise"));
  CHECK(words({"render", rig, "--set", "light."}) == std::vector<std::string>{"light.pendant."});
  CHECK(has(words({"render", rig, "--set", "light.pendant.fal"}), "light.pendant.falloff."));
  CHECK(has(words({"render", rig, "--set", "light.pendant.falloff.z"}),
            "light.pendant.falloff.zero_at="));
  CHECK(words({"render", rig, "--camera", ""}) == std::vector<std::string>{"wide"});
  CHECK(words({"render", rig, "--variant", "d"}) == std::vector<std::string>{"dark"});
  CHECK(words({"nothing", "x"}).empty());
  CHECK(words({"render", dir.path("none.toml"), "--camera", ""}).empty());
  CHECK(run_program({"completion", "tcsh"}).status == 2);
  for (const char* shell : {"bash", "zsh", "fish"}) {
    CHECK(run_program({"completion", shell}).out.find("completion --words") != std::string::npos);
  }
}

TEST_CASE("the bash script completes as the shell asks", "[cli][completion]") {
  const TemporaryFolder dir;
  const std::string rig = dir.write("r.toml", kRigForKeysVerb);
  const std::string folder = std::filesystem::path(JOVILUX_PROGRAM).parent_path().string();
  dir.write("try.sh",
            "PATH=" + folder + ":$PATH\nsource <(jovilux completion bash)\n" +
                "COMP_WORDS=(jovilux render " + rig + " --set light.pendant.out)\nCOMP_CWORD=4\n" +
                "_jovilux\nprintf '[%s]\\n' \"${COMPREPLY[@]}\"\n" +
                "COMP_WORDS=(jovilux bal)\nCOMP_CWORD=1\n_jovilux\nprintf '[%s]\\n' "
                "\"${COMPREPLY[@]}\"\n");
  const ProgramRun run = run_other("/bin/bash", {dir.path("try.sh")});
  INFO(run.err);
  CHECK(run.out == "[light.pendant.output=]\n[balance ]\n");
}

TEST_CASE("the manual page tells every verb and option", "[cli][completion]") {
  const std::string page = run_program({"completion", "man"}).out;
  CHECK(page.starts_with(".TH JOVILUX 1"));
  for (const char* text :
       {".SS jovilux render", ".SS jovilux keys", "\\-\\-denoise", "EXIT STATUS"}) {
    INFO(text);
    CHECK(page.find(text) != std::string::npos);
  }
}
