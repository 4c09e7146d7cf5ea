// The scripts and the style of pages (web/), and how they become one text: each module is a function of its own that
// is run once, in the order in which they need one another, so what a page runs is what the tests of the modules ran.
//
//   joined_modules("view/main.js")
//
// A module begins with its imports, `import { a, b } from '../base/x.js';`, each on a line of its own, and exports by
// `export function`, `export async function`, `export class` or `export const` at the beginning of a line. Lines that
// are nothing but a comment are left out, and so are blanks at the beginning of a line.
#pragma once
#include <string>
#include <string_view>
#include <vector>

namespace katoptra {

struct WebPart {
  std::string_view name, text;  // "base/text.js"
};
// Made by the build from web/ and the library for three dimensions ("three.js").
const std::vector<WebPart>& web_parts();
// Asserts that there is one of that name.
std::string_view web_part(std::string_view name);

std::string joined_modules(const std::string& entry);
// The same with `part` in place of the build's own. BadFile for what is not a module as described above.
std::string joined_modules(const std::string& entry, std::string_view (*part)(std::string_view name));

}  // namespace katoptra
