// SPDX-License-Identifier: Apache-2.0
// ISO 639-2 codes, as containers write them, to BCP 47 (RFC 5646: the shortest code counts).
#include <algorithm>
#include <array>

#include "media/media.h"

namespace ruedo {

namespace {
struct Pair {
    std::string_view three, two;
};
constexpr auto pairs = std::to_array<Pair>(
    {{"afr", "af"}, {"alb", "sq"}, {"ara", "ar"}, {"arm", "hy"}, {"baq", "eu"}, {"bel", "be"}, {"ben", "bn"},
     {"bos", "bs"}, {"bul", "bg"}, {"cat", "ca"}, {"ces", "cs"}, {"chi", "zh"}, {"cym", "cy"}, {"cze", "cs"},
     {"dan", "da"}, {"deu", "de"}, {"dut", "nl"}, {"ell", "el"}, {"eng", "en"}, {"epo", "eo"}, {"est", "et"},
     {"eus", "eu"}, {"fas", "fa"}, {"fin", "fi"}, {"fra", "fr"}, {"fre", "fr"}, {"geo", "ka"}, {"ger", "de"},
     {"gle", "ga"}, {"glg", "gl"}, {"gre", "el"}, {"guj", "gu"}, {"heb", "he"}, {"hin", "hi"}, {"hrv", "hr"},
     {"hun", "hu"}, {"hye", "hy"}, {"ice", "is"}, {"ind", "id"}, {"isl", "is"}, {"ita", "it"}, {"jpn", "ja"},
     {"kat", "ka"}, {"kor", "ko"}, {"lat", "la"}, {"lav", "lv"}, {"lit", "lt"}, {"ltz", "lb"}, {"mac", "mk"},
     {"mar", "mr"}, {"may", "ms"}, {"mkd", "mk"}, {"mlt", "mt"}, {"msa", "ms"}, {"nld", "nl"}, {"nno", "nn"},
     {"nob", "nb"}, {"nor", "no"}, {"per", "fa"}, {"pol", "pl"}, {"por", "pt"}, {"ron", "ro"}, {"rum", "ro"},
     {"rus", "ru"}, {"slk", "sk"}, {"slo", "sk"}, {"slv", "sl"}, {"spa", "es"}, {"sqi", "sq"}, {"srp", "sr"},
     {"swa", "sw"}, {"swe", "sv"}, {"tam", "ta"}, {"tel", "te"}, {"tha", "th"}, {"tur", "tr"}, {"ukr", "uk"},
     {"urd", "ur"}, {"vie", "vi"}, {"wel", "cy"}, {"zho", "zh"}});
}  // namespace

std::string bcp47_from_iso639(std::string_view code) {
    if (code == "und" || code.empty()) return {};
    auto it = std::find_if(pairs.begin(), pairs.end(), [&](auto& p) { return p.three == code; });
    return std::string(it == pairs.end() ? code : it->two);
}

std::string iso639_from_bcp47(std::string_view tag) {
    auto primary = tag.substr(0, tag.find('-'));
    if (primary.size() == 3) return std::string(primary);
    // Of two codes for one language the terminological one counts, which is the one that is not made from English.
    static constexpr std::array<std::string_view, 19> bibliographic{"alb", "arm", "baq", "chi", "cze", "dut", "fre",
                                                                    "geo", "ger", "gre", "ice", "mac", "may", "per",
                                                                    "rum", "slo", "wel", "bur", "tib"};
    for (auto& p : pairs)
        if (p.two == primary && std::find(bibliographic.begin(), bibliographic.end(), p.three) == bibliographic.end())
            return std::string(p.three);
    return "und";
}

}  // namespace ruedo
