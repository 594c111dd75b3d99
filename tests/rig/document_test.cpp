#include "jovilux/rig/document.h"

#include "tests/support/program.h"
#include <catch2/catch.hpp>

using namespace jovilux;
using jovilux::test::run_program;
using jovilux::test::TemporaryFolder;

TEST_CASE("every value keeps its place", "[rig][document]") {
  const auto root =
      parse_toml("a = 1\n[t]\n  b = \"x\"\n[[l]]\nname = 'n'\nv = [1, 2.5]\n", "f.toml");
  REQUIRE(root);
  CHECK(root->find("a")->place.line == 1);
  CHECK(root->find("t")->find("b")->place.column == 7);
  const DocumentNode& item = root->find("l")->array()[0];
  CHECK(item.find("v")->array()[1].number() == 2.5);
  CHECK(item.find("v")->place.line == 6);
  CHECK(root->find("t")->find("none") == nullptr);
}

TEST_CASE("what is not TOML gives a problem with its place, whatever the bytes",
          "[rig][document]") {
  const auto bad = parse_toml("a = 1\nb = \n", "f.toml");
  REQUIRE_FALSE(bad);
  CHECK(bad.problems()[0].place.line == 2);
  CHECK_FALSE(parse_toml(std::string("a = 1\0b", 7), "f"));
  CHECK_FALSE(parse_toml("a" + std::string(5000, '.') + "b = 1", "f"));
  std::string deep = "a = 1\nx";
  for (int i = 0; i < 100'000; ++i) {
    deep += ".x";
  }
  const auto too_deep = parse_toml(deep + " = 1\n", "f");
  REQUIRE_FALSE(too_deep);
  CHECK(too_deep.problems()[0].place.line == 2);
  CHECK_FALSE(parse_toml("a = " + std::string(100'000, '['), "f"));
  CHECK(parse_toml("points = [[1.0, 0.5], [2.0, 0.25]] # a.b.c\nt = \"1.2.3\"\n", "f"));
}

TEST_CASE("included files come first, lists are joined, the including file wins",
          "[rig][document]") {
  const TemporaryFolder dir;
  dir.write("parts/a.toml", "[scene]\ntitle = 'a'\nlength = 'cm'\n[[light]]\nname = 'one'\n");
  const std::string main =
      dir.write("main.toml",
                "include = ['parts/a.toml']\n[scene]\ntitle = 'main'\n[[light]]\nname = 'two'\n");
  const auto root = load_document(main);
  REQUIRE(root);
  CHECK(root->find("scene")->find("title")->text() == "main");
  CHECK(root->find("scene")->find("length")->text() == "cm");
  const auto& lights = root->find("light")->array();
  REQUIRE(lights.size() == 2);
  CHECK(lights[0].find("name")->text() == "one");
  CHECK(lights[0].place.file.find("a.toml") != std::string::npos);
  CHECK(root->find("include") == nullptr);
}

TEST_CASE("cycles, missing and deep includes are errors at the line that asks for them",
          "[rig][document]") {
  const TemporaryFolder dir;
  dir.write("a.toml", "x = 1\ninclude = ['b.toml']\n");
  dir.write("b.toml", "include = ['a.toml']\n");
  const auto cycle = load_document(dir.path("a.toml"));
  REQUIRE_FALSE(cycle);
  CHECK(cycle.problems()[0].code == "include-cycle");
  CHECK(cycle.problems()[0].place.file.find("b.toml") != std::string::npos);

  const std::string missing = dir.write("m.toml", "include = [\n  'none.toml',\n  3]\n");
  const auto result = load_document(missing);
  REQUIRE(result.problems().size() == 2);
  CHECK(result.problems()[0].place.line == 2);
  CHECK(result.problems()[1].place.line == 3);

  for (int i = 0; i < 10'000; ++i) {
    dir.write("deep" + std::to_string(i) + ".toml",
              "include = ['deep" + std::to_string(i + 1) + ".toml']\n");
  }
  const auto deep = load_document(dir.path("deep0.toml"));
  REQUIRE_FALSE(deep);
  CHECK(deep.problems()[0].code == "include-depth");
}

TEST_CASE("addresses reach values by kind, name, key and place in a list", "[rig][document]") {
  auto root = parse_toml(
      "[render]\nsamples = 4\n[[light]]\nname = 'key'\nat = [1, 2, 3]\nfalloff = 'none'\n", "f");
  CHECK(apply_override(*root, "render.samples=16").empty());
  CHECK(root->find("render")->find("samples")->number() == 16);
  CHECK(apply_override(*root, "light.key.output=900 lm").empty());
  CHECK(root->find("light")->array()[0].find("output")->text() == "900 lm");
  CHECK(apply_override(*root, "light.key.at[2] = 7.5").empty());
  CHECK(root->find("light")->array()[0].find("at")->array()[2].number() == 7.5);
  CHECK(apply_override(*root, "look.exposure=EV 9").empty());
  CHECK(root->find("look")->find("exposure")->text() == "EV 9");

  const auto fault = [&](const std::string& what) {
    return to_string(apply_override(*root, what).at(0));
  };
  CHECK(fault("light.kye.output=1 lm").find("did you mean \"key\"?") != std::string::npos);
  CHECK(fault("ligth.key.output=1 lm").find("did you mean \"light\"?") != std::string::npos);
  CHECK(fault("samples=3").find("not an address") != std::string::npos);
  CHECK(fault("light.key.at[9]=3").find("items") != std::string::npos);
  CHECK(fault("light.key.falloff.matches_at=3").find("not a table") != std::string::npos);
  CHECK(fault("light.key=3").find("a key of it must follow") != std::string::npos);
  CHECK(fault("nonsense").find("ADDRESS=VALUE") != std::string::npos);
}

TEST_CASE("variants set what they name and unknown ones are refused", "[rig][document]") {
  auto root = parse_toml(
      "[[light]]\nname='a'\ndimmer=1.0\n[[variant]]\nname='dim'\nset = { \"light.a.dimmer\" = "
      "0.25, \"light.b.dimmer\" = 1 }\n",
      "f");
  const Problems p = apply_variant(*root, "dim");
  CHECK(root->find("light")->array()[0].find("dimmer")->number() == 0.25);
  REQUIRE(p.size() == 1);
  CHECK(p[0].place.line == 6);
  CHECK(apply_variant(*root, "dmi")[0].hint == "did you mean \"dim\"?");
}

TEST_CASE("a document written as TOML reads back the same", "[rig][document]") {
  const std::string text =
      "jovilux = 1\n[scene]\ntitle = \"a \\\"b\\\" \\n c\"\n[[light]]\nname = 'x'\nv = [1, 2.5, "
      "true, \"t\"]\nf = { law = 'none', matches_at = 2.0 }\n[[light]]\nname = 'y'\n";
  const auto first = parse_toml(text, "f");
  REQUIRE(first);
  const std::string written = to_toml(*first);
  const auto again = parse_toml(written, "g");
  REQUIRE(again);
  CHECK(to_toml(*again) == written);
  CHECK(again->find("scene")->find("title")->text() == "a \"b\" \n c");
  CHECK(again->find("light")->array()[0].find("f")->find("matches_at")->number() == 2.0);
}

TEST_CASE("a list that is a value is replaced by the including file's, not joined",
          "[rig][document]") {
  const TemporaryFolder dir;
  dir.write(
      "base.toml",
      "jovilux = 1\n[render]\nsize = [960, 540]\n[[light]]\nname='a'\nkind='point'\nat=[0, 0, "
      "1]\noutput='10 lm'\n[[camera]]\nname='c'\nat=[0, -1, 1]\nlook_at=[0, 0, 0]\n");
  const std::string rig =
      dir.write("r.toml",
                "include = ['base.toml']\n[render]\nsize = [32, 18]\nsamples = "
                "1\n[[light]]\nname='b'\nkind='point'\nat=[0, 0, 2]\noutput='10 "
                "lm'\n");
  const auto run = run_program({"render", rig, "-o", dir.path("o"), "--quiet", "--json"});
  REQUIRE(run.status == 0);
  CHECK(run.json()["width"] == 32);
  CHECK(run.json()["lights"].size() == 2);
}
