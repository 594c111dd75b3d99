#pragma once

#include <string>
#include <vector>

namespace jovilux::figures {

/// A picture of a page: a PNG file, what it shows (for those who cannot see it), what is written
/// below it.
struct PageFigure {
  std::string png, shows, caption;
};

/// A table of a page; its first row holds the headings. Cells that are numbers stand at the right.
struct PageTable {
  std::vector<std::vector<std::string>> rows;
};

/// A part of a page, its contents in this order.
struct PageSection {
  std::string title;
  std::vector<std::string> paragraphs;
  std::vector<PageTable> tables;
  std::vector<PageFigure> figures;
  std::vector<std::string> points;  ///< a list
};

/// An HTML page that needs no other file: pictures within it, no script, nothing fetched. All texts
/// may hold any bytes.
/// Written atomically; throws MachineTrouble.
void write_page(const std::string& path,
                const std::string& title,
                const std::string& lead,
                const std::vector<PageSection>& sections);

/// Text as HTML shows it, character for character; control characters become spaces.
std::string html_text(const std::string& text);

}  // namespace jovilux::figures
