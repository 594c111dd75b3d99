// Lights of stages in USD's text format.
#include "jovilux/files/usd_lights.h"

#include <cmath>

#include "tests/support/program.h"
#include <catch2/catch.hpp>

using namespace jovilux;
using jovilux::test::TemporaryFolder;

namespace {

const std::string kStage = R"usd(#usda 1.0
(
    "a comment (with parentheses)"
    metersPerUnit = 0.01
    upAxis = "Y"
    customLayerData = { string a = "} not the end" }
)

def Xform "House" (
    kind = "component"
    prepend apiSchemas = ["CollectionAPI:x"]
)
{
    double3 xformOp:translate = (100, 200, 300)
    float xformOp:rotateY = 90
    float3 xformOp:scale = (2, 2, 2)
    uniform token[] xformOpOrder = ["xformOp:translate", "xformOp:rotateY", "xformOp:scale"]
    rel collection:x:includes
    custom bool flag # a comment

    def RectLight "window" (
        customData = { dictionary deep = { int n = 1 } }
    )
    {
        float inputs:intensity = 100 ( doc = """text with "quotes" in it""" )
        float inputs:exposure = 1
        color3f inputs:color = (0.5, 0.25, 1)
        float inputs:width = 30
        float inputs:height = 20
        double3 xformOp:translate = (10, 0, 0)
        uniform token[] xformOpOrder = ["xformOp:translate"]
    }

    def SphereLight "bulb"
    {
        bool inputs:normalize = 1
        float inputs:radius = 1
        float inputs:intensity = 400
        bool inputs:enableColorTemperature = true
        float inputs:colorTemperature = 2700
        asset inputs:shaping:ies:file = @./lamp.ies@
        matrix4d xformOp:transform = ( (1,0,0,0), (0,1,0,0), (0,0,1,0), (5, 6, 7, 1) )
        float3 xformOp:rotateXYZ:turn = (10, 20, 30)
        uniform token[] xformOpOrder = ["xformOp:transform", "xformOp:rotateXYZ:turn",
                                        "!invert!xformOp:rotateXYZ:turn"]
    }
    def Mesh "body" ( prepend references = @other.usda@</Body> )
    {
        point3f[] points = [(0,0,0), (1,0,0), (0,1,0)]
        float3 xformOp:translate.timeSamples = { 0: (1, 2, 3), 1: (2, 2, 2) }
    }
    class SphereLight "pattern" { }
}

def DistantLight "sun"
{
    float inputs:intensity = 10
    float inputs:angle = 2
}
)usd";

Result<UsdStage> stage_of(const TemporaryFolder& dir, const std::string& text) {
  return load_usd_lights(dir.write("s.usda", text));
}

}  // namespace

TEST_CASE("UsdLux lights arrive in meters, upright, with their levels", "[files][usd]") {
  const TemporaryFolder dir;
  const auto stage = stage_of(dir, kStage);
  for (const Problem& p : stage.problems()) {
    UNSCOPED_INFO(to_string(p));
  }
  REQUIRE(stage);
  REQUIRE(stage->lights.size() == 3);
  CHECK(stage->meshes == 1);
  CHECK(stage.problems().size() == 2);  // a reference, and time samples

  // By hand: (10, 0, 0) doubled, turned by 90 degrees about y to (0, 0, -20), moved; centimeters
  // with y up become meters with z up.
  const UsdStage::Light& window = stage->lights[0];
  CHECK(window.name == "window");
  CHECK((window.at - Vec3d(1.0, -2.8, 2.0)).norm() < 1e-12);
  CHECK(window.width == Approx(0.6));
  CHECK(window.height == Approx(0.4));
  CHECK(window.level == Approx(200));
  CHECK(window.color == Rgb(0.5, 0.25, 1));
  // It shines along -z of its own, which the turn makes -x.
  CHECK((-window.frame.col(2) - Vec3d(-1, 0, 0)).norm() < 1e-12);
  CHECK((window.frame.col(1) - Vec3d(0, 0, 1)).norm() < 1e-12);

  const UsdStage::Light& bulb = stage->lights[1];
  CHECK((bulb.at - Vec3d(1.0 + 0.14, -(3.0 - 0.10), 2.0 + 0.12)).norm() < 1e-12);
  CHECK(bulb.radius == Approx(0.02));
  CHECK(bulb.level == Approx(400 / (4 * kPiD * 2 * 2)));  // over its area in the stage's units
  CHECK(*bulb.kelvin == 2700);
  CHECK(bulb.profile == "./lamp.ies");

  const UsdStage::Light& sun = stage->lights[2];
  const double s = std::sin(kPiD / 180);
  CHECK(sun.level == Approx(10 * kPiD * s * s));  // lux of a disc of that luminance
}

TEST_CASE("rotations of three axes are applied in the order of their names", "[files][usd]") {
  const TemporaryFolder dir;
  const auto turned = [&](const std::string& op, const std::string& value) {
    const auto stage = stage_of(
        dir,
        "#usda 1.0\n( metersPerUnit = 1\n upAxis = \"Z\" )\ndef DiskLight "
        "\"d\" { float3 xformOp:" +
            op + " = " + value + "\n uniform token[] xformOpOrder = [\"xformOp:" + op + "\"] }\n");
    REQUIRE(stage);
    return Vec3d(-stage->lights[0].frame.col(2));
  };
  // -z, turned about x by 90 degrees to +y, then about z by 90 to -x; the other way round the
  // turn about z does nothing at first, and +y is left.
  CHECK((turned("rotateXYZ", "(90, 0, 90)") - Vec3d(-1, 0, 0)).norm() < 1e-12);
  CHECK((turned("rotateZYX", "(90, 0, 90)") - Vec3d(0, 1, 0)).norm() < 1e-12);
  CHECK((turned("rotateX", "90") - Vec3d(0, 1, 0)).norm() < 1e-12);
  // The quaternion of a half turn about x: real part first.
  CHECK((turned("orient", "(0, 1, 0, 0)") - Vec3d(0, 0, 1)).norm() < 1e-12);
}

TEST_CASE("a prim that resets its transforms does not follow its parents", "[files][usd]") {
  const TemporaryFolder dir;
  const auto stage = stage_of(dir, R"usd(#usda 1.0
( metersPerUnit = 1
  upAxis = "Z" )
def Xform "outer" {
    double3 xformOp:translate = (10, 0, 0)
    uniform token[] xformOpOrder = ["xformOp:translate"]
    def Xform "free" {
        double3 xformOp:translate = (0, 5, 0)
        uniform token[] xformOpOrder = ["!resetXformStack!", "xformOp:translate"]
        def SphereLight "inside" {
            double3 xformOp:translate = (0, 0, 2)
            uniform token[] xformOpOrder = ["xformOp:translate"]
        }
    }
    def SphereLight "held" { }
}
)usd");
  REQUIRE(stage);
  REQUIRE(stage->lights.size() == 2);
  CHECK((stage->lights[0].at - Vec3d(0, 5, 2)).norm() < 1e-12);
  CHECK((stage->lights[1].at - Vec3d(10, 0, 0)).norm() < 1e-12);
}

TEST_CASE("any bytes at all are a stage or a problem with its line", "[files][usd]") {
  const TemporaryFolder dir;
  // Cut short anywhere, and with any byte replaced.
  for (std::size_t n = 0; n < kStage.size(); n += 3) {
    const auto cut = stage_of(dir, kStage.substr(0, n));
    CHECK((cut || !cut.problems().empty()));
    for (const char c : {'(', '}', '"', '@', '\0', '9'}) {
      std::string wrong = kStage;
      wrong[n] = c;
      const auto changed = stage_of(dir, wrong);
      CHECK((changed || !changed.problems().empty()));
    }
  }
  const std::string head = "#usda 1.0\n";
  for (const std::string& bad :
       {std::string("not usd"),
        std::string("PXR-USDC"),
        head + std::string(100'000, '('),
        head + "def X \"a\" " + std::string(100'000, '{'),
        head + "def SphereLight \"a\" { float a = " + std::string(100'000, '[') + " }",
        head + "def SphereLight \"a\" { float inputs:intensity = 1e400 }",
        head + "def SphereLight \"a\" { float inputs:intensity = -1 }",
        head + "( metersPerUnit = 0 )",
        head + "def SphereLight \"a\" { float3 xformOp:scale = (0, 1, 1)\n "
               "uniform token[] xformOpOrder = [\"xformOp:scale\"] }"}) {
    INFO(bad.substr(0, 80));
    const auto stage = stage_of(dir, bad);
    REQUIRE_FALSE(stage);
    CHECK(stage.problems()[0].place.line >= 1);
  }
  std::string nested = head;
  for (int i = 0; i < 100'000; ++i) {
    nested += "def Xform \"x\" {";
  }
  CHECK_FALSE(stage_of(dir, nested));
}
