// Light that mirrors and glass throw of lamps without size: against images in closed form.
#include "jovilux/transport/thrown_light.h"

#include "jovilux/optics/microfacet.h"

#include <cmath>

#include "tests/support/rigs.h"
#include "tests/support/statistics.h"
#include <catch2/catch.hpp>

using namespace jovilux;
using namespace jovilux::test;

namespace {

constexpr double kIntensity = 100, kReflectance = 0.9;

std::string scene_with(const std::string& objects, const std::string& light) {
  return R"(
[[camera]]
name = "c"
at = [0, -5, 1]
look_at = [0, 0, 1]
[[material]]
name = "mirror"
kind = "metal"
color = [0.9, 0.9, 0.9]
roughness = 0
[[material]]
name = "glass"
kind = "glass"
ior = 1.5
roughness = 0
)" + objects +
         light;
}

std::string lamp(const std::string& kind_and_place) {
  return "[[light]]\nname = 'lamp'\n" + kind_and_place + "\noutput = '100 cd'\n";
}

// Illuminance in lx with its scatter, of the first light.
RunningMoments thrown_on(const std::string& rig_text, const ReceivingPlane& plane) {
  const Rig rig = rig_of(rig_text);
  const auto scene = prepare_scene(rig);
  REQUIRE(scene);
  REQUIRE(can_be_thrown(*scene, scene->emitters[0]));
  const ThrownRays rays(*scene, 0, 6, 1);
  const ThrownLight light(rays, plane);
  RunningMoments out;
  for (std::uint32_t batch = 0; batch < 16; ++batch) {
    std::vector<float> sums(scene->layers.size() * kPartsWithHaze * 3),
        luminance(scene->layers.size() * kPartsWithHaze);
    LightSink sink(sums.data(), luminance.data(), kPartsWithHaze);
    light.add(batch, 1 << 16, sink);
    out.add(kPiD * static_cast<double>(sink.total()));
  }
  return out;
}

void check_near(const RunningMoments& found, double exact, double tolerance = 0.002) {
  INFO(found.mean() << " +- " << found.standard_error() << " lx, " << exact << " exactly");
  CHECK(found.standard_error() < 0.02 * exact);
  CHECK(std::abs(found.mean() - exact) < kZBound * found.standard_error() + tolerance * exact);
}

const std::string kFlatMirror = R"(
[[object]]
name = "flat"
shape = { kind = "rect", size = [4, 4] }
at = [-1, 0, 0]
rotate = [0, 90, 0]
material = "mirror"
)";

// A ball, of 15 cm in radius unless said otherwise, that touches x = 0, and a lamp 80 cm before it
// on the axis.
std::string lamp_before_ball(const std::string& material, const std::string& radius = "0.15") {
  return scene_with("[[object]]\nname = \"ball\"\nshape = { kind = \"sphere\", radius = " + radius +
                        " }\nat = [-" + radius + ", 0, 0]\nmaterial = \"" + material + "\"\n",
                    lamp("kind = 'point'\nat = [0.8, 0, 0]"));
}

}  // namespace

TEST_CASE("a flat mirror throws the light of a lamp's image", "[render][thrown]") {
  // The image of (0.4, 0.2, 0.3) stands at (-2.4, 0.2, 0.3).
  const Vec3d image(-2.4, 0.2, 0.3), at(0.1, -0.3, 0.1);
  const Vec3 normal = Vec3(-1, 0.4f, 0.2f).normalized();
  const Vec3d way = image - at;
  const double exact =
      kIntensity * kReflectance * way.normalized().dot(normal.cast<double>()) / way.squaredNorm();
  const std::string point = scene_with(kFlatMirror, lamp("kind = 'point'\nat = [0.4, 0.2, 0.3]"));
  check_near(thrown_on(point, {at.cast<float>(), normal}), exact);
  // From behind nothing arrives.
  CHECK(thrown_on(point, {at.cast<float>(), Vec3(-normal)}).mean() == 0);
  CHECK(thrown_on(scene_with("", lamp("kind = 'point'\nat = [0.4, 0.2, 0.3]")),
                  {at.cast<float>(), normal})
            .mean() == 0);
}

TEST_CASE("a plane that lies on a floor gets what mirrors throw on it", "[render][thrown]") {
  // Oblique light ends at the floor, in which the plane lies; it comes from the lamp's image.
  const std::string rig = scene_with(kFlatMirror + R"(
[[object]]
name = "floor"
shape = { kind = "plane" }
at = [0, 0, -0.4]
)",
                                     lamp("kind = 'point'\nat = [0.4, 0, 0.4]"));
  const Vec3d way = Vec3d(-2.4, 0, 0.4) - Vec3d(0.2, 0.1, -0.4);
  const double exact = kIntensity * kReflectance * way.normalized().z() / way.squaredNorm();
  check_near(thrown_on(rig, {Vec3(0.2f, 0.1f, -0.4f), Vec3(0, 0, 1)}), exact);
}

TEST_CASE("a spot without size is thrown where its beam meets the mirror", "[render][thrown]") {
  // The beam goes along -x; its image shines along +x from (-2.4, 0, 0).
  const std::string spot = scene_with(
      kFlatMirror, lamp("kind = 'spot'\nat = [0.4, 0, 0]\naim = [-1, 0, 0]\nbeam = '20 deg'"));
  const double exact = kIntensity * kReflectance / sqr(2.5);
  check_near(thrown_on(spot, {Vec3(0.1f, 0, 0), Vec3(-1, 0, 0)}), exact);
  CHECK(thrown_on(spot, {Vec3(0.1f, 1.8f, 0), Vec3(-1, 0, 0)}).mean() == 0);  // beside the beam
}

TEST_CASE("a mirror ball spreads the light by its curvature", "[render][thrown]") {
  // On the axis through lamp and center, at the distances a and b from a ball of radius r, the beam
  // is as wide as that of a lamp at a + b + 2 a b / r (paraxial rays).
  const double a = 0.8, b = 1.1, r = 0.15;
  const std::string ball = lamp_before_ball("mirror");
  const double exact = kIntensity * kReflectance / sqr(a + b + 2 * a * b / r);
  check_near(thrown_on(ball, {Vec3(1.1f, 0, 0), Vec3(-1, 0, 0)}), exact);
}

TEST_CASE("a mirror ball spreads the light aside as well, by the incidence", "[render][thrown]") {
  // Off the axis a beam of the angle w is as wide as (d + s + 2 d s / (r cos i)) w in the plane of
  // incidence and (d + s + 2 d s cos i / r) w across it, d and s before and after the reflection
  // (Coddington's equations; M. Born, E. Wolf, Principles of Optics, 4.6). A small ball spreads
  // cells far, in the plane of incidence more than across it.
  const double r = 0.03, s = 0.9;
  const Vec3d center(-r, 0, 0), lamp(0.8, 0, 0);
  const std::string ball = lamp_before_ball("mirror", "0.03");
  for (const auto& [polar, azimuth] : {std::pair{0.15, 0.4}, {0.35, 2.1}, {0.6, 3.9}, {0.9, 5.5}}) {
    const Vec3d normal(
        std::cos(polar), std::sin(polar) * std::cos(azimuth), std::sin(polar) * std::sin(azimuth));
    const Vec3d at = center + r * normal, to = at - lamp;
    const double d = to.norm(), cos_i = -to.dot(normal) / d;
    const Vec3d away = to / d + 2 * cos_i * normal, place = at + s * away;
    const double exact = kIntensity * kReflectance / (d + s + 2 * d * s / (r * cos_i)) /
                         (d + s + 2 * d * s * cos_i / r);
    INFO("normal at " << polar << " from the axis");
    // The footprint of a cell of finite size is not quite linear on so small a ball.
    check_near(thrown_on(ball, {place.cast<float>(), Vec3(-away.cast<float>())}), exact, 0.005);
  }
}

namespace {

// Illuminance that a lamp of kIntensity, at a distance from the middle of a glass ball, throws
// through it on a plane behind, at an offset from the axis: two refractions by Snell's law, the
// flux of a ring of directions, I 2 pi sin(a) da, over the area of the ring that it becomes.
double through_ball(double radius, double to_lamp, double to_plane, double offset) {
  constexpr int kSteps = 200'000;
  const double n = 1.5, widest = std::asin(radius / to_lamp), step = widest / kSteps;
  double sum = 0, before = 0;
  for (int i = 1; i < kSteps; ++i) {
    const double angle = i * step, incidence = std::asin(to_lamp * std::sin(angle) / radius),
                 inside = std::asin(std::sin(incidence) / n);
    // The point where the ray leaves and its direction, as turns from the way towards the lamp.
    const double leaves = incidence - angle + kPiD - 2 * inside, way = leaves + incidence;
    const double here = radius * std::sin(leaves) +
                        std::sin(way) * (to_plane + radius * std::cos(leaves)) / -std::cos(way);
    for (const double side : {offset, -offset}) {
      if ((before < side) != (here < side)) {
        const double passes = (1 - static_cast<double>(fresnel_dielectric(
                                       static_cast<float>(std::cos(incidence)), 1.5f))) *
                              (1 - static_cast<double>(fresnel_dielectric(
                                       static_cast<float>(std::cos(inside)), 1 / 1.5f)));
        sum += kIntensity * std::sin(angle) * passes * step / (offset * std::abs(here - before));
      }
    }
    before = here;
  }
  return sum;
}

}  // namespace

TEST_CASE("a glass ball throws a ring's light on the ring that refraction makes of it",
          "[render][thrown]") {
  const double radius = 0.3, to_lamp = 0.8 + radius, to_plane = 0.8;
  const std::string ball = lamp_before_ball("glass", "0.3");
  for (const double offset : {0.05, 0.15, 0.25}) {
    INFO("at " << offset << " m from the axis");
    const Vec3 place(static_cast<float>(-radius - to_plane), static_cast<float>(offset), 0);
    // What is reflected inside several times comes to less than 0.3 % there.
    check_near(thrown_on(ball, {place, Vec3(1, 0, 0)}),
               through_ball(radius, to_lamp, to_plane, offset),
               0.008);
  }
}

TEST_CASE("glass lets light through and shifts it, and reflects it on both sides",
          "[render][thrown]") {
  // A slab of 0.2 m square to the way, so wide that its edges throw nothing: the lamp seems nearer
  // by t (1 - 1/n); two surfaces let (1 - R) through each. Source: M. Born, E. Wolf, Principles of
  // Optics, 1.5.
  const double n = 1.5, reflected = sqr((n - 1) / (n + 1)), thickness = 0.2;
  const std::string slab = scene_with(R"(
[[object]]
name = "slab"
shape = { kind = "box", size = [0.2, 40, 40] }
at = [0, 0, 0]
material = "glass"
)",
                                      lamp("kind = 'point'\nat = [1, 0, 0]"));
  const double way = 2 - thickness + thickness / n;
  check_near(thrown_on(slab, {Vec3(-1, 0, 0), Vec3(1, 0, 0)}),
             kIntensity * sqr(1 - reflected) / sqr(way));
  // Behind the lamp: its images in the front and in the back surface.
  const double front = 1.8 + 0.2, back = front + 2 * thickness / n;
  check_near(thrown_on(slab, {Vec3(1.2f, 0, 0), Vec3(-1, 0, 0)}),
             kIntensity * reflected * (1 / sqr(front) + sqr(1 - reflected) / sqr(back)));
}

TEST_CASE("a glass ball reflects a lamp at its front and at its back", "[render][thrown]") {
  // Curved glass spreads its reflections, which need the finest cells of directions. On the axis a
  // beam of the angle w is as wide as B w, B of the ray transfer matrix of its way (paraxial rays).
  // Source: E. Hecht, Optics, 6.2.
  const double a = 0.8, b = 1.1, r = 0.15, n = 1.5, reflected = sqr((n - 1) / (n + 1));
  const auto matrix = [](double m00, double m01, double m10, double m11) {
    Eigen::Matrix2d m;
    m << m00, m01, m10, m11;
    return m;
  };
  const auto along = [&](double distance) { return matrix(1, distance, 0, 1); };
  const Eigen::Matrix2d in = matrix(1, 0, -(n - 1) / (n * r), 1 / n),
                        out = matrix(1, 0, -(n - 1) / r, n), back = matrix(1, 0, -2 / r, 1);
  const double front_width = a + b + 2 * a * b / r;
  const double back_width =
      (along(b) * out * along(2 * r) * back * along(2 * r) * in * along(a))(0, 1);
  const std::string ball = lamp_before_ball("glass");
  check_near(thrown_on(ball, {Vec3(1.1f, 0, 0), Vec3(-1, 0, 0)}),
             kIntensity * reflected * (1 / sqr(front_width) + sqr((1 - reflected) / back_width)));
}
