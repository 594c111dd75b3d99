#include "figures/report_page.h"

#include "jovilux/base/text.h"
#include "jovilux/files/atomic_file.h"
#include "jovilux/files/read_file.h"

#include <cctype>
#include <memory>

#include <glib.h>

namespace jovilux::figures {
namespace {

constexpr std::size_t kMostPicture = 256U << 20;

std::string owned(gchar* text) {
  const std::unique_ptr<gchar, void (*)(gpointer)> held(text, g_free);
  return held.get();
}

std::string picture(const std::string& file) {
  const auto bytes = read_file(file, kMostPicture, "bad-picture");
  if (!bytes) {
    throw MachineTrouble("writing a page: " + printable(file, 200) + " cannot be read");
  }
  return "data:image/png;base64," +
         owned(g_base64_encode(reinterpret_cast<const guchar*>(bytes->data()), bytes->size()));
}

bool is_number(const std::string& cell) {
  return !cell.empty() && (std::isdigit(static_cast<unsigned char>(cell[0])) || cell == "-" ||
                           (cell[0] == '-' && cell.size() > 1));
}

std::string table(const PageTable& t) {
  if (t.rows.empty()) {
    return "";
  }
  // A column of numbers is one whose cells all are.
  std::vector<bool> numeric(t.rows[0].size(), t.rows.size() > 1);
  for (std::size_t r = 1; r < t.rows.size(); ++r) {
    for (std::size_t c = 0; c < numeric.size() && c < t.rows[r].size(); ++c) {
      numeric[c] =
          numeric[c] && (is_number(t.rows[r][c]) || t.rows[r][c].empty() || t.rows[r][c] == "off");
    }
  }
  const auto mark = [&](std::size_t c) {
    return c < numeric.size() && numeric[c] ? std::string(" class=\"n\"") : std::string();
  };
  std::string out = "<div class=\"wide\"><table>\n<thead><tr>";
  for (std::size_t c = 0; c < t.rows[0].size(); ++c) {
    out += "<th scope=\"col\"" + mark(c) + ">" + html_text(t.rows[0][c]) + "</th>";
  }
  out += "</tr></thead>\n<tbody>\n";
  for (std::size_t r = 1; r < t.rows.size(); ++r) {
    out += "<tr>";
    for (std::size_t c = 0; c < t.rows[r].size(); ++c) {
      out += c == 0 ? "<th scope=\"row\">" + html_text(t.rows[r][c]) + "</th>"
                    : "<td" + mark(c) + ">" + html_text(t.rows[r][c]) + "</td>";
    }
    out += "</tr>\n";
  }
  return out + "</tbody></table></div>\n";
}

constexpr const char* kStyle = R"(
:root { color-scheme: light; }
body { margin: 0; background: #f4f4f2; color: #1d1d1b; font: 15px/1.5 "DejaVu Sans", system-ui, sans-serif; }
main { max-width: 1180px; margin: 0 auto; padding: 28px 32px 60px; }
h1 { font-size: 26px; margin: 0 0 4px; }
h2 { font-size: 18px; margin: 36px 0 10px; padding-top: 14px; border-top: 2px solid #1d1d1b; }
p { margin: 6px 0 10px; max-width: 76ch; }
.lead { color: #55544f; }
nav a { margin-right: 18px; color: #00507d; }
figure { margin: 0 0 18px; background: #fff; border: 1px solid #d8d7d2; padding: 8px; box-sizing: border-box; }
figure img { display: block; width: 100%; height: auto; }
figcaption { font-size: 13px; color: #55544f; padding: 6px 2px 0; overflow-wrap: anywhere; }
.pictures { display: grid; grid-template-columns: repeat(auto-fit, minmax(340px, 1fr)); gap: 16px; }
.pictures figure { margin: 0; }
.wide { overflow-x: auto; margin: 10px 0 18px; }
table { border-collapse: collapse; background: #fff; font-size: 13.5px; min-width: 50%; }
th, td { text-align: left; padding: 5px 12px; border-bottom: 1px solid #e4e3df; white-space: nowrap; }
thead th { background: #e9e8e3; }
tbody th { font-weight: 600; }
.n { text-align: right; font-variant-numeric: tabular-nums; }
li { margin: 4px 0; overflow-wrap: anywhere; }
@media print { body { background: #fff; } nav { display: none; } figure, tr { break-inside: avoid; } }
)";

}  // namespace

std::string html_text(const std::string& text) {
  const std::string valid = owned(g_utf8_make_valid(text.data(), static_cast<gssize>(text.size())));
  std::string plain;
  for (const char c : valid) {
    const auto byte = static_cast<unsigned char>(c);
    plain += byte < 32 || byte == 127 ? ' ' : c;
  }
  return owned(g_markup_escape_text(plain.data(), static_cast<gssize>(plain.size())));
}

void write_page(const std::string& path,
                const std::string& title,
                const std::string& lead,
                const std::vector<PageSection>& sections) {
  AtomicFile file(path);
  file.write(
      "<!DOCTYPE html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n<meta "
      "name=\"viewport\" content=\"width=device-width, initial-scale=1\">\n"
      "<meta http-equiv=\"Content-Security-Policy\" content=\"default-src 'none'; img-src data:; "
      "style-src 'unsafe-inline'\">\n<title>" +
      html_text(title) + "</title>\n<style>" + kStyle + "</style>\n</head>\n<body>\n<main>\n<h1>" +
      html_text(title) + "</h1>\n<p class=\"lead\">" + html_text(lead) + "</p>\n<nav>");
  for (std::size_t s = 0; s < sections.size(); ++s) {
    file.write("<a href=\"#s" + std::to_string(s + 1) + "\">" + html_text(sections[s].title) +
               "</a>");
  }
  file.write("</nav>\n");
  for (std::size_t s = 0; s < sections.size(); ++s) {
    const PageSection& section = sections[s];
    file.write("<section id=\"s" + std::to_string(s + 1) + "\">\n<h2>" + html_text(section.title) +
               "</h2>\n");
    for (const std::string& p : section.paragraphs) {
      file.write("<p>" + html_text(p) + "</p>\n");
    }
    for (const PageTable& t : section.tables) {
      file.write(table(t));
    }
    const bool several = section.figures.size() > 1;
    file.write(several ? "<div class=\"pictures\">\n" : "");
    for (const PageFigure& f : section.figures) {
      file.write("<figure><img alt=\"" + html_text(f.shows) + "\" src=\"");
      file.write(picture(f.png));
      file.write("\"><figcaption>" + html_text(f.caption) + "</figcaption></figure>\n");
    }
    file.write(several ? "</div>\n" : "");
    if (!section.points.empty()) {
      file.write("<ul>\n");
      for (const std::string& p : section.points) {
        file.write("<li>" + html_text(p) + "</li>\n");
      }
      file.write("</ul>\n");
    }
    file.write("</section>\n");
  }
  file.write("</main>\n</body>\n</html>\n");
  file.commit();
}

}  // namespace jovilux::figures
