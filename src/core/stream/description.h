// SPDX-License-Identifier: Apache-2.0
// A media presentation description (ISO/IEC 23009-1 clause 5.3) as it is written: its periods, sets and
// representations.
#pragma once
#include <map>
#include <pugixml.hpp>

#include "media/streaming.h"
#include "stream/playlist.h"

namespace ruedo::stream::dash {

using Node = pugi::xml_node;

/// Elements by their local names: a manifest may bind its namespace to a prefix.
bool is(Node n, const char* name);
Node child(Node of, const char* name);
template <class F>
void each(Node of, const char* name, F&& f) {
    for (auto n : of.children())
        if (is(n, name)) f(n);
}
/// "PT1H2M3.5S" (xs:duration, clause 5.3.1.2); years and months have no length.
std::optional<Time> duration(std::string_view s);
std::uint64_t number(Node n, const char* name, std::uint64_t otherwise = 0);
std::optional<ByteSource::Range> range(std::string_view s);
/// "seg-$Number%05d$.m4s" (clause 5.3.9.4.4). Nothing where it can't be followed.
std::optional<std::string> fill(std::string_view form, std::string_view id, std::uint64_t bandwidth, std::uint64_t n,
                                std::uint64_t time);

/// One rendition in one period: everything its segments follow from.
struct Part {
    std::vector<Node> levels;  ///< Period, adaptation set, representation.
    std::string base;          ///< Address that its references are relative to.
    Time start{}, length{};    ///< Of the period; a length of 0 is not known.
    std::uint64_t period = 0;
};

/// Entities that a document defines itself are never put in, and nothing outside it is read.
class Description {
  public:
    pugi::xml_document document;
    Node root;
    std::string address;
    bool live = false;
    Time depth{}, delay{}, update{};
    std::optional<Time> begun;  ///< When it was first available, since 1970.
    Time clock_off{};           ///< What the server's clock is ahead of ours.

    /// `malformed` with the place of the fault.
    Status read(ByteView xml, const std::string& from);
    /// Renditions of one kind (and language), from the lowest bitrate on, each with its parts in all periods.
    struct Group {
        Kind kind = Kind::other;
        std::string language, name;
        bool is_default = false, encrypted = false;
        std::vector<Rung> rungs;
        std::vector<std::vector<Part>> parts;  ///< By rung.
    };
    /// They point into the document.
    Result<std::vector<Group>> groups() const;

  private:
    Status take_set(std::vector<Group>& all, std::map<std::string, int>& seen, Node set, Node period,
                    const std::string& period_base, Time start, Time lasts, std::size_t p) const;
};

}  // namespace ruedo::stream::dash
