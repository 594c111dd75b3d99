#pragma once

#include <cstdint>
#include <map>
#include <string>
#include <vector>

namespace jovilux {

/// Writes 8-bit RGB (row by row from the top, 3 bytes a pixel) as a PNG tagged sRGB, atomically.
/// `texts` become text chunks. Throws MachineTrouble.
void write_png(const std::string& path,
               int width,
               int height,
               const std::vector<std::uint8_t>& rgb,
               const std::map<std::string, std::string>& texts = {});

/// The text chunks of a PNG's bytes up to its picture, by their keys; empty where there are none or
/// the bytes are no PNG. Keys and values together hold at most a megabyte.
std::map<std::string, std::string> png_texts(const std::string& bytes);

/// Whether each chunk of a PNG's bytes, up to its last, lies within them: libpng takes memory for
/// what a chunk claims.
bool png_chunks_fit(const std::string& bytes);

/// How many bytes the picture's data in a PNG's bytes unpack to, as far as they are whole: rows of
/// packed pixels with a byte before each. Takes 64 KB whatever the file claims. Throws
/// MachineTrouble.
std::uint64_t png_picture_bytes(const std::string& bytes);

}  // namespace jovilux
