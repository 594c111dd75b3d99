// Spectra, gels and arrays in the rig.
#include "jovilux/scene/scene.h"

#include "tests/support/program.h"
#include "tests/support/statistics.h"
#include <catch2/catch.hpp>

using namespace jovilux;
using jovilux::test::TemporaryFolder;

namespace {

Result<Rig> rig_of_for_source(const std::string& text,
                              const std::vector<std::string>& overrides = {}) {
  auto document = parse_toml("jovilux = 1\n" + text, "rig.toml");
  REQUIRE(document);
  Problems problems;
  for (const std::string& o : overrides) {
    const Problems more = apply_override(*document, o);
    problems.insert(problems.end(), more.begin(), more.end());
  }
  auto rig = read_rig(std::move(*document), "rig.toml");
  return problems.empty() ? std::move(rig) : Result<Rig>(problems);
}

std::string problems_of(const std::string& text) {
  const auto rig = rig_of_for_source(text);
  std::string out;
  for (const Problem& p : rig.problems()) {
    out += to_string(p) + "\n";
  }
  return out;
}

const std::string kPattern =
    "[[light]]\nname='bulb'\nkind='point'\nat=[0,0,0.5]\noutput='2100 lm'\n";

std::string array(const std::string& more) {
  return "[[array]]\nname='string'\nof='bulb'\n" + more;
}

}  // namespace

TEST_CASE("copies of a light divide its output or multiply it, and it shines no longer itself",
          "[rig][array]") {
  const std::string line = "count=3\nalong={path='line', from=[0,0,0], to=[3,0,0]}\n";
  const auto total = rig_of_for_source(kPattern + array(line + "output='total'\n"));
  REQUIRE(total);
  REQUIRE(total->lights.size() == 3);
  CHECK(total->lights[0].name == "string[0]");
  CHECK(total->lights[0].levels.flux->value == Approx(700));
  CHECK((total->lights[0].at - Vec3d(0.5, 0, 0.5)).norm() < 1e-12);
  CHECK((total->lights[2].at - Vec3d(2.5, 0, 0.5)).norm() < 1e-12);
  const auto each = rig_of_for_source(kPattern + array(line + "output='each'\n"));
  CHECK(each->lights[1].levels.flux->value == Approx(2100));
  const auto scene = prepare_scene(*total);
  REQUIRE(scene);
  CHECK(scene->layers == std::vector<std::string>{"string"});
}

TEST_CASE("helix, circle, grid and points put copies where they say", "[rig][array]") {
  const auto places = [&](const std::string& along) {
    const auto rig = rig_of_for_source(kPattern + array("output='each'\n" + along));
    INFO((rig ? "" : to_string(rig.problems()[0])));
    REQUIRE(rig);
    std::vector<Vec3d> out;
    for (const LightSpec& l : rig->lights) {
      out.push_back(l.at - Vec3d(0, 0, 0.5));
    }
    return out;
  };
  const auto helix = places("count=4\nalong={path='helix', radius=1, pitch=0.5, turns=1}\n");
  REQUIRE(helix.size() == 4);
  for (std::size_t i = 0; i < 4; ++i) {
    CHECK(std::hypot(helix[i].x(), helix[i].y()) == Approx(1));
    CHECK(helix[i].z() == Approx(0.5 * (static_cast<double>(i) + 0.5) / 4));
  }
  // Half a turn apart.
  CHECK((helix[0] + Vec3d(helix[2].x(), helix[2].y(), -helix[0].z())).norm() < 1e-12);
  CHECK(places("count=5\nalong={path='circle', radius=2}\n").size() == 5);
  const auto grid = places("along={path='grid', at=[1,0,0], spacing=[2,1,1], cells=[2,3,1]}\n");
  REQUIRE(grid.size() == 6);
  CHECK((grid[0] - Vec3d(0, -1, 0)).norm() < 1e-12);
  CHECK(places("along={path='points', points=[[1,2,3],['4 cm',0,0]]}\n")[1].x() == Approx(0.04));
}

TEST_CASE("points on a helix give what the closed sum gives", "[rig][array]") {
  // truths.json: helix_40_points, 1000 lm over 40 isotropic points, 5 turns, radius 5 cm, height 30
  // cm, 469.67 lx
  const auto rig =
      rig_of_for_source("[[light]]\nname='bulb'\nkind='point'\nat=[0,0,0]\noutput='1000 lm'\n" +
                        array("count=40\noutput='total'\nalong={path='helix', radius='5 cm', "
                              "pitch='6 cm', turns=5}\n"));
  REQUIRE(rig);
  const Vec3d P(0.4, 0, 0.15), n(-1, 0, 0);
  double sum = 0;
  for (const LightSpec& l : rig->lights) {
    const Vec3d to = l.at - P;
    sum += l.levels.intensity->value * std::max(0.0, to.normalized().dot(n)) / to.squaredNorm();
  }
  CHECK(sum == Approx(469.67156380295586).epsilon(1e-5));
}

TEST_CASE("single copies have addresses of their own", "[rig][array]") {
  const std::string text =
      kPattern + array("count=3\noutput='total'\nalong={path='line', from=[0,0,0], to=[3,0,0]}\n");
  const auto rig =
      rig_of_for_source(text, {"light.string[1].dimmer=0.25", "light.string[2].output=5 lm"});
  REQUIRE(rig);
  CHECK(rig->lights[0].dimmer == 1);
  CHECK(rig->lights[1].dimmer == 0.25);
  CHECK(rig->lights[2].levels.flux->value == Approx(5));
  CHECK_FALSE(rig_of_for_source(text, {"light.string[7].dimmer=0.25"}));
  CHECK_FALSE(rig_of_for_source(text, {"light.strong[0].dimmer=0.25"}));
}

TEST_CASE("arrays without count, pattern or output say so", "[rig][array]") {
  CHECK(problems_of(kPattern +
                    array("output='total'\nalong={path='line', from=[0,0,0], to=[3,0,0]}\n"))
            .find("array.string.count: is missing") != std::string::npos);
  CHECK(problems_of(kPattern + array("count=2\nalong={path='circle', radius=1}\n"))
            .find("array.string.output: is missing") != std::string::npos);
  CHECK(problems_of("[[array]]\nname='a'\nof='blub'\n" + kPattern).find("did you mean \"bulb\"?") !=
        std::string::npos);
  CHECK(problems_of(kPattern + array("count=2\noutput='each'\nalong={path='spiral'}\n"))
            .find("expected line, circle, helix, grid or points") != std::string::npos);
  CHECK(problems_of(kPattern +
                    array("count=2\noutput='each'\nalong={path='circle', radius=1, pitch=2}\n"))
            .find("\"pitch\" does not go with path \"circle\"") != std::string::npos);
}

TEST_CASE("gels take their luminous share from the level and color what is left", "[rig][gel]") {
  const std::string gels =
      "[[gel]]\nname='half'\npoints=[[300, 0.5], [900, 0.5]]\n[[gel]]\nname='red'\npoints=[[590, "
      "0], [610, 0.9]]\n";
  const auto emitter = [&](const std::string& more) {
    const auto rig = rig_of_for_source(gels + kPattern + "white='2700 K'\n" + more);
    INFO((rig ? "" : to_string(rig.problems()[0])));
    REQUIRE(rig);
    const auto scene = prepare_scene(*rig);
    REQUIRE(scene);
    return scene->emitters[0];
  };
  const float bare = emitter("").intensity;
  CHECK(emitter("gel='half'\n").intensity == Approx(bare / 2));
  CHECK(emitter("gel=['half', 'half']\n").intensity == Approx(bare / 4));
  const Emitter red = emitter("gel='red'\n");
  CHECK(red.intensity < 0.5f * bare);
  CHECK(red.table.row(1).sum() == Approx(1).epsilon(1e-5));
  CHECK(chromaticity(red.table.rowwise().sum().matrix().cast<double>()).x > 0.6);
  CHECK(problems_of(gels + kPattern + "gel='hlaf'\n").find("did you mean \"half\"?") !=
        std::string::npos);
  CHECK(problems_of("[[gel]]\nname='g'\npoints=[[500, 1.5], [600, 1]]\n")
            .find("transmittance from 0 to 1") != std::string::npos);
}

TEST_CASE("dim_to_warm slides the white and spectra replace it", "[rig]") {
  const auto white = [&](const std::string& more) {
    const auto rig = rig_of_for_source(kPattern + more);
    INFO((rig ? "" : to_string(rig.problems()[0])));
    REQUIRE(rig);
    const auto scene = prepare_scene(*rig);
    return correlated_color_temperature(
               scene->emitters[0].table.rowwise().sum().matrix().cast<double>())
        .cct.value;
  };
  CHECK(white("white='2700 K'\ndim_to_warm='1800 K'\n") == Approx(2700).epsilon(1e-3));
  CHECK(white("white='2700 K'\ndim_to_warm='1800 K'\ndimmer=0.1\n") ==
        Approx(2700 * std::pow(0.1, 0.42 / 3.4)).epsilon(1e-3));
  CHECK(white("spectrum='cie-f11'\n") == Approx(3999).epsilon(2e-3));
  CHECK(white("spectrum='led-3000'\n") == Approx(3000).epsilon(2e-3));
  const TemporaryFolder dir;
  CHECK(problems_of(kPattern + "spectrum='cie-f13'\n").find("cie-f1 .. cie-f12") !=
        std::string::npos);
  CHECK(problems_of(kPattern + "spectrum='none.csv'\n").find("file not found") !=
        std::string::npos);
  CHECK(problems_of(kPattern + "white='D65'\nspectrum='cie-a'\n").find("both given") !=
        std::string::npos);
  CHECK(problems_of(kPattern + "white='D65'\ndim_to_warm='1800 K'\n")
            .find("only a white in kelvin") != std::string::npos);
}
