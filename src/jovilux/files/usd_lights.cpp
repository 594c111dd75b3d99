#include "jovilux/files/usd_lights.h"

#include "jovilux/base/text.h"
#include "jovilux/base/vec.h"
#include "jovilux/files/read_file.h"

#include <Eigen/Geometry>
#include <algorithm>
#include <cctype>
#include <cmath>
#include <map>
#include <string_view>

#include <fmt/format.h>

namespace jovilux {
namespace {

constexpr std::uint64_t kMostBytes = 64U << 20;
constexpr int kDeepest = 200;
constexpr std::size_t kMostLights = 100'000;

using Mat4d = Eigen::Matrix4d;

// A value: its numbers in their order, whatever brackets hold them, and its texts.
struct UsdValue {
  std::vector<double> numbers;
  std::vector<std::string> texts;
};
using UsdProperties = std::map<std::string, UsdValue, std::less<>>;

struct UsdFault {
  std::string text;
};

class UsdReader {
 public:
  UsdReader(std::string_view text, std::string path) : text_(text), path_(std::move(path)) {}

  Result<UsdStage> read() {
    constexpr std::string_view kHeader = "#usda 1.";
    if (!text_.starts_with(kHeader)) {
      return problem("is not in USD's text format: it does not begin with \"#usda 1.0\"");
    }
    try {
      skip_space();
      UsdProperties of_layer;
      if (peek() == '(') {
        read_metadata(of_layer);
      }
      meters_ = number_of(of_layer, "metersPerUnit", 0.01);
      const auto up = of_layer.find("upAxis");
      z_up_ = up != of_layer.end() && !up->second.texts.empty() && up->second.texts[0] == "Z";
      if (!(meters_ > 0) || !(meters_ <= 1e6)) {
        throw UsdFault{"metersPerUnit is not above 0"};
      }
      Mat4d upright = Mat4d::Identity() * meters_;
      upright(3, 3) = 1;
      if (!z_up_) {  // y up becomes z up
        Mat4d turn = Mat4d::Identity();
        turn.row(1) << 0, 0, -1, 0;
        turn.row(2) << 0, 1, 0, 0;
        upright = turn * upright;
      }
      prims(upright, 0);
    } catch (const UsdFault& fault) {
      return problem(fault.text);
    }
    if (references_) {
      warn("names other layers, which are not read: give each file on its own");
    }
    if (animated_) {
      warn("has values in time samples, which are not read: the defaults are");
    }
    return {std::move(stage_), std::move(warnings_)};
  }

 private:
  Problem problem(const std::string& text) const {
    return {Severity::kError, "bad-usd", {path_, line(), 0}, "", text, ""};
  }
  void warn(const std::string& text) {
    warnings_.push_back({Severity::kWarning, "usd", {path_, 0, 0}, "", text, ""});
  }
  std::uint32_t line() const {
    const auto end = text_.begin() + static_cast<std::ptrdiff_t>(std::min(at_, text_.size()));
    return 1 + static_cast<std::uint32_t>(std::count(text_.begin(), end, '\n'));
  }

  char peek() const { return at_ < text_.size() ? text_[at_] : '\0'; }
  bool take(char c) {
    skip_space();
    if (peek() != c || at_ >= text_.size()) {
      return false;
    }
    ++at_;
    return true;
  }
  void expect(char c) {
    if (!take(c)) {
      throw UsdFault{fmt::format("expected \"{}\"", c)};
    }
  }
  void skip_space() {
    while (at_ < text_.size()) {
      const char c = text_[at_];
      if (c == '#') {
        while (at_ < text_.size() && text_[at_] != '\n') {
          ++at_;
        }
      } else if (c == ' ' || c == '\t' || c == '\r' || c == '\n' || c == ';') {
        ++at_;
      } else {
        return;
      }
    }
  }

  // A word of letters, digits and : _ . - ! of names; empty where none begins.
  std::string word() {
    skip_space();
    const std::size_t begin = at_;
    while (at_ < text_.size() &&
           (std::isalnum(static_cast<unsigned char>(text_[at_])) != 0 ||
            std::string_view(":_.-+!").find(text_[at_]) != std::string_view::npos)) {
      ++at_;
    }
    return std::string(text_.substr(begin, at_ - begin));
  }

  // "...", '...', """...""", @...@, <...>
  std::string quoted() {
    skip_space();
    const char open = peek(), close = open == '<' ? '>' : open;
    if (open != '"' && open != '\'' && open != '@' && open != '<') {
      throw UsdFault{"expected a text"};
    }
    const std::string triple(3, open);
    const bool is_triple = open != '<' && text_.substr(at_, 3) == triple;
    at_ += is_triple ? 3 : 1;
    std::string out;
    while (at_ < text_.size()) {
      if (is_triple ? text_.substr(at_, 3) == triple : text_[at_] == close) {
        at_ += is_triple ? 3 : 1;
        return out;
      }
      if (text_[at_] == '\\' && open != '@' && at_ + 1 < text_.size()) {
        ++at_;
      }
      out += text_[at_++];
    }
    throw UsdFault{"a text does not end"};
  }

  // A number, text, list, tuple or dictionary, whose parts are added to `out`.
  void value(UsdValue& out, int depth) {
    if (depth > kDeepest) {
      throw UsdFault{"brackets are too deep"};
    }
    skip_space();
    const char c = peek();
    if (c == '(' || c == '[') {
      ++at_;
      const char close = c == '(' ? ')' : ']';
      while (!take(close)) {
        if (at_ >= text_.size()) {
          throw UsdFault{"a bracket does not close"};
        }
        value(out, depth + 1);
        take(',');
      }
      return;
    }
    if (c == '{') {
      skip_braces(depth + 1);
      return;
    }
    if (c == '"' || c == '\'' || c == '@' || c == '<') {
      out.texts.push_back(quoted());
      if (c == '@' && peek_after_space() == '<') {  // a prim of that file
        quoted();
      }
      return;
    }
    const std::string name = word();
    if (name.empty()) {
      throw UsdFault{"expected a value"};
    }
    const bool begins_number = name.find_first_of("0123456789") <= 1 && name[0] != '_' &&
                               std::isalpha(static_cast<unsigned char>(name[0])) == 0;
    if (const auto number = parse_number(name); number && std::isfinite(*number)) {
      out.numbers.push_back(*number);
    } else if (begins_number) {
      throw UsdFault{fmt::format("\"{}\" is no number", printable(name, 40))};
    } else if (name == "true" || name == "false") {
      out.numbers.push_back(name == "true" ? 1 : 0);
    } else {
      out.texts.push_back(name);
    }
  }

  // All up to the brace that closes the one here; texts may hold braces.
  void skip_braces(int depth) {
    expect('{');
    for (int open = 1; open > 0;) {
      skip_space();
      if (at_ >= text_.size() || open + depth > kDeepest) {
        throw UsdFault{"braces do not close, or are too deep"};
      }
      const char c = peek();
      if (c == '"' || c == '\'' || c == '@') {
        quoted();
        continue;
      }
      open += c == '{' ? 1 : c == '}' ? -1 : 0;
      ++at_;
    }
  }

  // ( name = value ... ): of a layer, prim or property.
  void read_metadata(UsdProperties& out) {
    expect('(');
    while (!take(')')) {
      skip_space();
      if (at_ >= text_.size()) {
        throw UsdFault{"a parenthesis does not close"};
      }
      if (peek() == '"' || peek() == '\'') {  // a comment
        quoted();
        continue;
      }
      std::string name = word();
      if (name.empty()) {
        throw UsdFault{"expected a name in parentheses"};
      }
      // "prepend references = ...", "dictionary customData = ...": the last word is the name.
      for (std::string more = name; peek_after_space() != '=' && !more.empty();) {
        more = word();
        name = more.empty() ? name : more;
        if (take('[')) {
          expect(']');
        }
      }
      references_ = references_ || name == "references" || name == "payload" ||
                    name == "subLayers" || name == "inherits";
      if (take('=')) {
        value(out[name], 0);
      }
    }
  }
  char peek_after_space() {
    skip_space();
    return peek();
  }

  // Prims and properties up to the end of the file or of the braces.
  void prims(const Mat4d& parent, int depth) {
    if (depth > kDeepest) {
      throw UsdFault{"prims are nested too deep"};
    }
    for (;;) {
      skip_space();
      if (at_ >= text_.size() || peek() == '}') {
        return;
      }
      const std::string specifier = word();
      if (specifier != "def" && specifier != "over" && specifier != "class") {
        throw UsdFault{
            fmt::format("expected def, over or class; found \"{}\"",
                        printable(specifier.empty() ? std::string(1, peek()) : specifier, 40))};
      }
      prim(parent, depth, specifier == "class");
    }
  }

  void prim(const Mat4d& parent, int depth, bool abstract) {
    const std::string type = word();
    const std::string name = quoted();
    UsdProperties metadata, properties;
    if (peek_after_space() == '(') {
      read_metadata(metadata);
    }
    expect('{');
    // What the prim holds may stand before its own transform: its place is known at its end.
    const std::size_t first = stage_.lights.size();
    const bool is_light = begin_light(type, name, abstract);
    for (;;) {
      skip_space();
      if (take('}')) {
        break;
      }
      if (at_ >= text_.size()) {
        throw UsdFault{fmt::format("prim \"{}\" does not close", printable(name, 60))};
      }
      const std::size_t before = at_;
      const std::string first_word = word();
      if (first_word == "def" || first_word == "over" || first_word == "class") {
        if (depth + 1 > kDeepest) {
          throw UsdFault{"prims are nested too deep"};
        }
        prim(Mat4d::Identity(), depth + 1, abstract || first_word == "class");
      } else if (first_word == "variantSet") {
        quoted();
        expect('=');
        skip_braces(depth);
      } else {
        at_ = before;
        property(properties);
      }
    }
    stage_.meshes += type == "Mesh" ? 1 : 0;
    const Mat4d own = transform_of(properties);
    const bool resets = resets_transforms(properties);
    for (std::size_t i = first; i < places_.size(); ++i) {
      if (!anchored_[i]) {
        places_[i] = own * places_[i];
        anchored_[i] = resets;
      }
    }
    if (is_light) {
      finish_light(stage_.lights[first], properties);
    }
    if (depth == 0) {
      for (std::size_t i = first; i < stage_.lights.size(); ++i) {
        place_light(stage_.lights[i], parent * places_[i]);
      }
    }
  }

  // [custom] [uniform] type[[]] name [= value] [( metadata )]
  void property(UsdProperties& out) {
    std::string name, last;
    while (!(last = word()).empty()) {
      name = last;
      if (ends_line()) {
        break;  // a property without a value
      }
      if (take('[')) {
        expect(']');
      }
      const char next = peek_after_space();
      if (next == '=' || next == '(' || next == '}' || next == '"') {
        break;
      }
    }
    if (name.empty()) {
      throw UsdFault{fmt::format("unexpected \"{}\"", printable(std::string(1, peek()), 8))};
    }
    constexpr std::string_view kSamples = ".timeSamples";
    if (take('=')) {
      if (name.ends_with(kSamples)) {
        animated_ = true;
        skip_braces(0);
      } else {
        UsdValue v;
        value(v, 0);
        out[name] = std::move(v);
      }
    }
    if (peek_after_space() == '(') {
      UsdProperties ignored;
      const bool before = references_;
      read_metadata(ignored);
      references_ = before;
    }
  }

  bool ends_line() const {
    const std::size_t next = text_.find_first_not_of(" \t\r", at_);
    return next == std::string_view::npos || text_[next] == '\n' || text_[next] == '#';
  }

  static double number_of(const UsdProperties& p, std::string_view name, double otherwise) {
    const auto found = p.find(name);
    return found != p.end() && !found->second.numbers.empty() ? found->second.numbers[0]
                                                              : otherwise;
  }
  // An input by its name today, or as it was before the prefix.
  static const UsdValue* input(const UsdProperties& p, const std::string& name) {
    for (const std::string& full : {"inputs:" + name, name}) {
      if (const auto found = p.find(full); found != p.end()) {
        return &found->second;
      }
    }
    return nullptr;
  }
  static double input_number(const UsdProperties& p, const std::string& name, double otherwise) {
    const UsdValue* v = input(p, name);
    return v != nullptr && !v->numbers.empty() ? v->numbers[0] : otherwise;
  }
  static std::string input_text(const UsdProperties& p, const std::string& name) {
    const UsdValue* v = input(p, name);
    return v != nullptr && !v->texts.empty() ? v->texts[0] : "";
  }

  // A prim's own transform. Vectors are columns here: the first operation listed is the last to be
  // applied.
  Mat4d transform_of(const UsdProperties& p) const {
    const auto order = p.find("xformOpOrder");
    Mat4d out = Mat4d::Identity();
    if (order == p.end()) {
      return out;
    }
    for (const std::string& listed : order->second.texts) {
      constexpr std::string_view kInverse = "!invert!";
      const bool inverse = listed.starts_with(kInverse);
      const std::string op = inverse ? listed.substr(kInverse.size()) : listed;
      if (op == "!resetXformStack!") {
        continue;  // see resets_transforms
      }
      const auto found = p.find(op);
      if (found == p.end()) {
        continue;
      }
      const Mat4d m = operation(op, found->second.numbers);
      if (inverse && !(std::abs(m.determinant()) > 0)) {
        throw UsdFault{fmt::format("{} has no inverse", printable(op, 60))};
      }
      out = out * (inverse ? Mat4d(m.inverse()) : m);
    }
    if (!out.allFinite()) {
      throw UsdFault{"a transform is not finite"};
    }
    return out;
  }

  // Whether a prim and what it holds do not follow the prims that hold it.
  static bool resets_transforms(const UsdProperties& p) {
    const auto order = p.find("xformOpOrder");
    return order != p.end() &&
           std::find(order->second.texts.begin(), order->second.texts.end(), "!resetXformStack!") !=
               order->second.texts.end();
  }

  static Mat4d operation(const std::string& op, const std::vector<double>& v) {
    const std::size_t begin = op.find(':') == std::string::npos ? 0 : op.find(':') + 1;
    const std::string kind = op.substr(begin, op.find(':', begin) - begin);
    Mat4d out = Mat4d::Identity();
    const auto need = [&](std::size_t count) {
      if (v.size() < count) {
        throw UsdFault{fmt::format("{} has {} numbers of {}", printable(op, 60), v.size(), count)};
      }
    };
    if (kind == "translate") {
      need(3);
      out.topRightCorner<3, 1>() = Vec3d(v[0], v[1], v[2]);
    } else if (kind == "scale") {
      need(3);
      out.topLeftCorner<3, 3>().diagonal() = Vec3d(v[0], v[1], v[2]);
    } else if (kind == "transform") {
      need(16);
      for (int r = 0; r < 4; ++r) {
        for (int c = 0; c < 4; ++c) {
          out(c, r) = v[static_cast<std::size_t>(4 * r + c)];  // rows there, columns here
        }
      }
    } else if (kind == "orient") {
      need(4);
      const Eigen::Quaterniond q(v[0], v[1], v[2], v[3]);
      if (!(q.norm() > 0)) {
        throw UsdFault{"a rotation has no axis"};
      }
      out.topLeftCorner<3, 3>() = q.normalized().toRotationMatrix();
    } else if (kind.starts_with("rotate")) {
      const std::string axes = kind.substr(6);
      need(axes.size());
      Mat3d turn = Mat3d::Identity();
      for (std::size_t k = 0; k < axes.size(); ++k) {  // the first named is applied first
        const int axis = axes[k] - 'X';
        if (axis < 0 || axis > 2) {
          throw UsdFault{fmt::format("unknown operation {}", printable(op, 60))};
        }
        const double angle = axes.size() == 1 ? v[0] : v[static_cast<std::size_t>(axis)];
        turn = Eigen::AngleAxisd(angle * kDegree, Vec3d::Unit(axis)).toRotationMatrix() * turn;
      }
      out.topLeftCorner<3, 3>() = turn;
    }
    return out;
  }

  bool begin_light(const std::string& type, const std::string& name, bool abstract) {
    using Kind = UsdStage::Light::Kind;
    static const std::map<std::string, Kind> kKinds = {{"SphereLight", Kind::kSphere},
                                                       {"DiskLight", Kind::kDisk},
                                                       {"RectLight", Kind::kRect},
                                                       {"CylinderLight", Kind::kCylinder},
                                                       {"DistantLight", Kind::kDistant},
                                                       {"DomeLight", Kind::kDome},
                                                       {"DomeLight_1", Kind::kDome}};
    const auto kind = kKinds.find(type);
    if (kind == kKinds.end()) {
      if (!abstract && type.ends_with("Light")) {
        warn(fmt::format(
            "\"{}\" is a {}, which is not read", printable(name, 60), printable(type, 40)));
      }
      return false;
    }
    if (abstract) {
      return false;
    }
    if (stage_.lights.size() == kMostLights) {
      throw UsdFault{fmt::format("has more than {} lights", kMostLights)};
    }
    UsdStage::Light light;
    light.kind = kind->second;
    light.name = name;
    stage_.lights.push_back(std::move(light));
    places_.push_back(Mat4d::Identity());
    anchored_.push_back(false);
    return true;
  }

  // Attributes, in the stage's units; the place follows.
  void finish_light(UsdStage::Light& l, const UsdProperties& p) const {
    using Kind = UsdStage::Light::Kind;
    constexpr double kDistantIntensity = 50'000;
    if (const auto own = p.find("jovilux:name"); own != p.end() && !own->second.texts.empty()) {
      l.name = own->second.texts[0];
    }
    const double intensity =
        input_number(p, "intensity", l.kind == Kind::kDistant ? kDistantIntensity : 1);
    // Exposure is in stops; its bounds keep the level a finite number.
    l.level = intensity * std::exp2(std::clamp(input_number(p, "exposure", 0), -100.0, 100.0));
    if (const UsdValue* color = input(p, "color"); color != nullptr && color->numbers.size() >= 3) {
      l.color = Rgb(color->numbers[0], color->numbers[1], color->numbers[2]).cwiseMax(0);
    }
    if (input_number(p, "enableColorTemperature", 0) != 0) {
      l.kelvin = input_number(p, "colorTemperature", 6500);
    }
    l.radius = input_number(p, "radius", l.radius);
    l.width = input_number(p, "width", l.width);
    l.height = input_number(p, "height", l.height);
    l.length = input_number(p, "length", l.length);
    l.angle = input_number(p, "angle", l.angle);
    l.as_point = number_of(p, "treatAsPoint", 0) != 0;
    l.as_line = number_of(p, "treatAsLine", 0) != 0;
    l.normalized = input_number(p, "normalize", 0) != 0;
    if (input(p, "shaping:cone:angle") != nullptr) {
      l.cone_angle = input_number(p, "shaping:cone:angle", 90);
      l.cone_softness = input_number(p, "shaping:cone:softness", 0);
    }
    l.texture = input_text(p, "texture:file");
    l.profile = input_text(p, "shaping:ies:file");
  }

  // The place in the world, and what sizes and normalization come to there. Areas are of the
  // stage's units, as the schema says.
  void place_light(UsdStage::Light& l, const Mat4d& world) const {
    using Kind = UsdStage::Light::Kind;
    const Mat3d axes = world.topLeftCorner<3, 3>();
    const Vec3d scale(axes.col(0).norm(), axes.col(1).norm(), axes.col(2).norm());
    if (!(scale.minCoeff() > 0) || !world.allFinite()) {
      throw UsdFault{
          fmt::format("light \"{}\" has no size in one direction", printable(l.name, 60))};
    }
    l.at = world.topRightCorner<3, 1>();
    for (int a = 0; a < 3; ++a) {
      l.frame.col(a) = axes.col(a) / scale[a];
    }
    l.width *= scale.x();
    l.height *= scale.y();
    l.length *= scale.x();
    l.radius *= l.kind == Kind::kCylinder ? scale.y() : scale.x();
    const double unit = meters_ * meters_;
    switch (l.kind) {
      case Kind::kSphere:
        l.level /= l.normalized ? 4 * kPiD * l.radius * l.radius / unit : 1;
        break;
      case Kind::kDisk:
        l.level /= l.normalized ? kPiD * l.radius * l.radius / unit : 1;
        break;
      case Kind::kRect:
        l.level /= l.normalized ? l.width * l.height / unit : 1;
        break;
      case Kind::kCylinder:
        l.level /= l.normalized ? 2 * kPiD * l.radius * l.length / unit : 1;
        break;
      case Kind::kDistant: {
        const double s = std::sin(l.angle / 2 * kDegree);
        l.level *= l.normalized ? 1 : kPiD * s * s;
        break;
      }
      case Kind::kDome:
        break;
    }
    if (!std::isfinite(l.level) || l.level < 0) {
      throw UsdFault{
          fmt::format("light \"{}\" has no level that is finite", printable(l.name, 60))};
    }
  }

  std::string_view text_;
  std::string path_;
  std::size_t at_ = 0;
  double meters_ = 0.01;
  bool z_up_ = false;
  bool references_ = false, animated_ = false;
  UsdStage stage_;
  std::vector<Mat4d> places_;  // of each light, from its own space to that of the prim that is open
  std::vector<bool> anchored_;  // places that are the stage's already
  Problems warnings_;
};

}  // namespace

Result<UsdStage> load_usd_lights(const std::string& path) {
  const auto text = read_file(path, kMostBytes, "unreadable-file");
  if (!text) {
    return text.problems();
  }
  return UsdReader(*text, path).read();
}

}  // namespace jovilux
