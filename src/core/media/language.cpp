// SPDX-License-Identifier: Apache-2.0
// ISO 639-2 codes, as containers write them, to BCP 47 (RFC 5646: the shortest code counts), and what languages are
// called.
#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "media/media.h"

namespace ruedo {

namespace {
/// Of two codes of three letters the terminological one counts, which is not made from English; both are read.
struct Language {
    std::string_view two, three, title, bibliographic{};
};
/// All that have two letters (ISO 639-1).
constexpr auto languages = std::to_array<Language>({{"aa", "aar", "Afar"},
                                                    {"ab", "abk", "Abkhazian"},
                                                    {"ae", "ave", "Avestan"},
                                                    {"af", "afr", "Afrikaans"},
                                                    {"ak", "aka", "Akan"},
                                                    {"am", "amh", "Amharic"},
                                                    {"an", "arg", "Aragonese"},
                                                    {"ar", "ara", "Arabic"},
                                                    {"as", "asm", "Assamese"},
                                                    {"av", "ava", "Avaric"},
                                                    {"ay", "aym", "Aymara"},
                                                    {"az", "aze", "Azerbaijani"},
                                                    {"ba", "bak", "Bashkir"},
                                                    {"be", "bel", "Belarusian"},
                                                    {"bg", "bul", "Bulgarian"},
                                                    {"bh", "bih", "Bihari"},
                                                    {"bi", "bis", "Bislama"},
                                                    {"bm", "bam", "Bambara"},
                                                    {"bn", "ben", "Bengali"},
                                                    {"bo", "bod", "Tibetan", "tib"},
                                                    {"br", "bre", "Breton"},
                                                    {"bs", "bos", "Bosnian"},
                                                    {"ca", "cat", "Catalan"},
                                                    {"ce", "che", "Chechen"},
                                                    {"ch", "cha", "Chamorro"},
                                                    {"co", "cos", "Corsican"},
                                                    {"cr", "cre", "Cree"},
                                                    {"cs", "ces", "Czech", "cze"},
                                                    {"cu", "chu", "Church Slavonic"},
                                                    {"cv", "chv", "Chuvash"},
                                                    {"cy", "cym", "Welsh", "wel"},
                                                    {"da", "dan", "Danish"},
                                                    {"de", "deu", "German", "ger"},
                                                    {"dv", "div", "Dhivehi"},
                                                    {"dz", "dzo", "Dzongkha"},
                                                    {"ee", "ewe", "Ewe"},
                                                    {"el", "ell", "Greek", "gre"},
                                                    {"en", "eng", "English"},
                                                    {"eo", "epo", "Esperanto"},
                                                    {"es", "spa", "Spanish"},
                                                    {"et", "est", "Estonian"},
                                                    {"eu", "eus", "Basque", "baq"},
                                                    {"fa", "fas", "Persian", "per"},
                                                    {"ff", "ful", "Fulah"},
                                                    {"fi", "fin", "Finnish"},
                                                    {"fj", "fij", "Fijian"},
                                                    {"fo", "fao", "Faroese"},
                                                    {"fr", "fra", "French", "fre"},
                                                    {"fy", "fry", "Western Frisian"},
                                                    {"ga", "gle", "Irish"},
                                                    {"gd", "gla", "Scottish Gaelic"},
                                                    {"gl", "glg", "Galician"},
                                                    {"gn", "grn", "Guarani"},
                                                    {"gu", "guj", "Gujarati"},
                                                    {"gv", "glv", "Manx"},
                                                    {"ha", "hau", "Hausa"},
                                                    {"he", "heb", "Hebrew"},
                                                    {"hi", "hin", "Hindi"},
                                                    {"ho", "hmo", "Hiri Motu"},
                                                    {"hr", "hrv", "Croatian"},
                                                    {"ht", "hat", "Haitian Creole"},
                                                    {"hu", "hun", "Hungarian"},
                                                    {"hy", "hye", "Armenian", "arm"},
                                                    {"hz", "her", "Herero"},
                                                    {"ia", "ina", "Interlingua"},
                                                    {"id", "ind", "Indonesian"},
                                                    {"ie", "ile", "Interlingue"},
                                                    {"ig", "ibo", "Igbo"},
                                                    {"ii", "iii", "Sichuan Yi"},
                                                    {"ik", "ipk", "Inupiaq"},
                                                    {"io", "ido", "Ido"},
                                                    {"is", "isl", "Icelandic", "ice"},
                                                    {"it", "ita", "Italian"},
                                                    {"iu", "iku", "Inuktitut"},
                                                    {"ja", "jpn", "Japanese"},
                                                    {"jv", "jav", "Javanese"},
                                                    {"ka", "kat", "Georgian", "geo"},
                                                    {"kg", "kon", "Kongo"},
                                                    {"ki", "kik", "Kikuyu"},
                                                    {"kj", "kua", "Kuanyama"},
                                                    {"kk", "kaz", "Kazakh"},
                                                    {"kl", "kal", "Greenlandic"},
                                                    {"km", "khm", "Khmer"},
                                                    {"kn", "kan", "Kannada"},
                                                    {"ko", "kor", "Korean"},
                                                    {"kr", "kau", "Kanuri"},
                                                    {"ks", "kas", "Kashmiri"},
                                                    {"ku", "kur", "Kurdish"},
                                                    {"kv", "kom", "Komi"},
                                                    {"kw", "cor", "Cornish"},
                                                    {"ky", "kir", "Kyrgyz"},
                                                    {"la", "lat", "Latin"},
                                                    {"lb", "ltz", "Luxembourgish"},
                                                    {"lg", "lug", "Ganda"},
                                                    {"li", "lim", "Limburgish"},
                                                    {"ln", "lin", "Lingala"},
                                                    {"lo", "lao", "Lao"},
                                                    {"lt", "lit", "Lithuanian"},
                                                    {"lu", "lub", "Luba-Katanga"},
                                                    {"lv", "lav", "Latvian"},
                                                    {"mg", "mlg", "Malagasy"},
                                                    {"mh", "mah", "Marshallese"},
                                                    {"mi", "mri", "Maori", "mao"},
                                                    {"mk", "mkd", "Macedonian", "mac"},
                                                    {"ml", "mal", "Malayalam"},
                                                    {"mn", "mon", "Mongolian"},
                                                    {"mr", "mar", "Marathi"},
                                                    {"ms", "msa", "Malay", "may"},
                                                    {"mt", "mlt", "Maltese"},
                                                    {"my", "mya", "Burmese", "bur"},
                                                    {"na", "nau", "Nauru"},
                                                    {"nb", "nob", "Norwegian Bokmål"},
                                                    {"nd", "nde", "North Ndebele"},
                                                    {"ne", "nep", "Nepali"},
                                                    {"ng", "ndo", "Ndonga"},
                                                    {"nl", "nld", "Dutch", "dut"},
                                                    {"nn", "nno", "Norwegian Nynorsk"},
                                                    {"no", "nor", "Norwegian"},
                                                    {"nr", "nbl", "South Ndebele"},
                                                    {"nv", "nav", "Navajo"},
                                                    {"ny", "nya", "Chichewa"},
                                                    {"oc", "oci", "Occitan"},
                                                    {"oj", "oji", "Ojibwa"},
                                                    {"om", "orm", "Oromo"},
                                                    {"or", "ori", "Odia"},
                                                    {"os", "oss", "Ossetian"},
                                                    {"pa", "pan", "Punjabi"},
                                                    {"pi", "pli", "Pali"},
                                                    {"pl", "pol", "Polish"},
                                                    {"ps", "pus", "Pashto"},
                                                    {"pt", "por", "Portuguese"},
                                                    {"qu", "que", "Quechua"},
                                                    {"rm", "roh", "Romansh"},
                                                    {"rn", "run", "Rundi"},
                                                    {"ro", "ron", "Romanian", "rum"},
                                                    {"ru", "rus", "Russian"},
                                                    {"rw", "kin", "Kinyarwanda"},
                                                    {"sa", "san", "Sanskrit"},
                                                    {"sc", "srd", "Sardinian"},
                                                    {"sd", "snd", "Sindhi"},
                                                    {"se", "sme", "Northern Sami"},
                                                    {"sg", "sag", "Sango"},
                                                    {"si", "sin", "Sinhala"},
                                                    {"sk", "slk", "Slovak", "slo"},
                                                    {"sl", "slv", "Slovenian"},
                                                    {"sm", "smo", "Samoan"},
                                                    {"sn", "sna", "Shona"},
                                                    {"so", "som", "Somali"},
                                                    {"sq", "sqi", "Albanian", "alb"},
                                                    {"sr", "srp", "Serbian"},
                                                    {"ss", "ssw", "Swati"},
                                                    {"st", "sot", "Southern Sotho"},
                                                    {"su", "sun", "Sundanese"},
                                                    {"sv", "swe", "Swedish"},
                                                    {"sw", "swa", "Swahili"},
                                                    {"ta", "tam", "Tamil"},
                                                    {"te", "tel", "Telugu"},
                                                    {"tg", "tgk", "Tajik"},
                                                    {"th", "tha", "Thai"},
                                                    {"ti", "tir", "Tigrinya"},
                                                    {"tk", "tuk", "Turkmen"},
                                                    {"tl", "tgl", "Tagalog"},
                                                    {"tn", "tsn", "Tswana"},
                                                    {"to", "ton", "Tongan"},
                                                    {"tr", "tur", "Turkish"},
                                                    {"ts", "tso", "Tsonga"},
                                                    {"tt", "tat", "Tatar"},
                                                    {"tw", "twi", "Twi"},
                                                    {"ty", "tah", "Tahitian"},
                                                    {"ug", "uig", "Uyghur"},
                                                    {"uk", "ukr", "Ukrainian"},
                                                    {"ur", "urd", "Urdu"},
                                                    {"uz", "uzb", "Uzbek"},
                                                    {"ve", "ven", "Venda"},
                                                    {"vi", "vie", "Vietnamese"},
                                                    {"vo", "vol", "Volapük"},
                                                    {"wa", "wln", "Walloon"},
                                                    {"wo", "wol", "Wolof"},
                                                    {"xh", "xho", "Xhosa"},
                                                    {"yi", "yid", "Yiddish"},
                                                    {"yo", "yor", "Yoruba"},
                                                    {"za", "zha", "Zhuang"},
                                                    {"zh", "zho", "Chinese", "chi"},
                                                    {"zu", "zul", "Zulu"}});
}  // namespace

std::string bcp47_from_iso639(std::string_view code) {
    if (code == "und" || code.empty()) return {};
    auto it = std::ranges::find_if(languages, [&](auto& l) { return l.three == code || l.bibliographic == code; });
    return std::string(it == languages.end() ? code : it->two);
}

std::string iso639_from_bcp47(std::string_view tag) {
    auto primary = tag.substr(0, tag.find('-'));
    if (primary.size() == 3) return std::string(primary);
    auto it = std::ranges::find(languages, primary, &Language::two);
    return std::string(it == languages.end() ? "und" : it->three);
}

bool is_language_tag(std::string_view tag) {
    auto primary = tag.substr(0, tag.find('-'));
    auto lower = [](char c) { return c >= 'a' && c <= 'z'; };
    bool three = primary.size() == 3 && std::ranges::all_of(primary, lower);
    if (!three && std::ranges::find(languages, primary, &Language::two) == languages.end()) return false;
    for (auto rest = tag.substr(primary.size()); !rest.empty();) {
        auto part = rest.substr(1, rest.find('-', 1) - 1);
        if (part.empty() || part.size() > 8 || !std::ranges::all_of(part, [&](char c) {
                return lower(c) || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9');
            }))
            return false;
        rest.remove_prefix(1 + part.size());
    }
    return true;
}

std::string language_title(const std::string& tag) {
    auto primary = tag.substr(0, tag.find('-'));
    auto it = std::ranges::find_if(languages, [&](auto& l) { return l.two == primary || l.three == primary; });
    if (it == languages.end()) return tag;
    return primary == tag ? std::string(it->title) : fmt::format("{} ({})", it->title, tag);
}

}  // namespace ruedo
