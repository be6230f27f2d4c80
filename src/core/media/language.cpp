// SPDX-License-Identifier: Apache-2.0
// ISO 639-2 codes, as containers write them, to BCP 47 (RFC 5646: the shortest code counts).
#include <algorithm>
#include <array>

#include "media/media.h"

namespace ruedo {

namespace {
/// Of two codes of three letters the terminological one counts, which is not made from English; both are read.
struct Language {
    std::string_view two, three, bibliographic{};
};
/// All that have two letters (ISO 639-1).
constexpr auto languages = std::to_array<Language>(
    {{"aa", "aar"},        {"ab", "abk"},        {"ae", "ave"},        {"af", "afr"},        {"ak", "aka"},
     {"am", "amh"},        {"an", "arg"},        {"ar", "ara"},        {"as", "asm"},        {"av", "ava"},
     {"ay", "aym"},        {"az", "aze"},        {"ba", "bak"},        {"be", "bel"},        {"bg", "bul"},
     {"bh", "bih"},        {"bi", "bis"},        {"bm", "bam"},        {"bn", "ben"},        {"bo", "bod", "tib"},
     {"br", "bre"},        {"bs", "bos"},        {"ca", "cat"},        {"ce", "che"},        {"ch", "cha"},
     {"co", "cos"},        {"cr", "cre"},        {"cs", "ces", "cze"}, {"cu", "chu"},        {"cv", "chv"},
     {"cy", "cym", "wel"}, {"da", "dan"},        {"de", "deu", "ger"}, {"dv", "div"},        {"dz", "dzo"},
     {"ee", "ewe"},        {"el", "ell", "gre"}, {"en", "eng"},        {"eo", "epo"},        {"es", "spa"},
     {"et", "est"},        {"eu", "eus", "baq"}, {"fa", "fas", "per"}, {"ff", "ful"},        {"fi", "fin"},
     {"fj", "fij"},        {"fo", "fao"},        {"fr", "fra", "fre"}, {"fy", "fry"},        {"ga", "gle"},
     {"gd", "gla"},        {"gl", "glg"},        {"gn", "grn"},        {"gu", "guj"},        {"gv", "glv"},
     {"ha", "hau"},        {"he", "heb"},        {"hi", "hin"},        {"ho", "hmo"},        {"hr", "hrv"},
     {"ht", "hat"},        {"hu", "hun"},        {"hy", "hye", "arm"}, {"hz", "her"},        {"ia", "ina"},
     {"id", "ind"},        {"ie", "ile"},        {"ig", "ibo"},        {"ii", "iii"},        {"ik", "ipk"},
     {"io", "ido"},        {"is", "isl", "ice"}, {"it", "ita"},        {"iu", "iku"},        {"ja", "jpn"},
     {"jv", "jav"},        {"ka", "kat", "geo"}, {"kg", "kon"},        {"ki", "kik"},        {"kj", "kua"},
     {"kk", "kaz"},        {"kl", "kal"},        {"km", "khm"},        {"kn", "kan"},        {"ko", "kor"},
     {"kr", "kau"},        {"ks", "kas"},        {"ku", "kur"},        {"kv", "kom"},        {"kw", "cor"},
     {"ky", "kir"},        {"la", "lat"},        {"lb", "ltz"},        {"lg", "lug"},        {"li", "lim"},
     {"ln", "lin"},        {"lo", "lao"},        {"lt", "lit"},        {"lu", "lub"},        {"lv", "lav"},
     {"mg", "mlg"},        {"mh", "mah"},        {"mi", "mri", "mao"}, {"mk", "mkd", "mac"}, {"ml", "mal"},
     {"mn", "mon"},        {"mr", "mar"},        {"ms", "msa", "may"}, {"mt", "mlt"},        {"my", "mya", "bur"},
     {"na", "nau"},        {"nb", "nob"},        {"nd", "nde"},        {"ne", "nep"},        {"ng", "ndo"},
     {"nl", "nld", "dut"}, {"nn", "nno"},        {"no", "nor"},        {"nr", "nbl"},        {"nv", "nav"},
     {"ny", "nya"},        {"oc", "oci"},        {"oj", "oji"},        {"om", "orm"},        {"or", "ori"},
     {"os", "oss"},        {"pa", "pan"},        {"pi", "pli"},        {"pl", "pol"},        {"ps", "pus"},
     {"pt", "por"},        {"qu", "que"},        {"rm", "roh"},        {"rn", "run"},        {"ro", "ron", "rum"},
     {"ru", "rus"},        {"rw", "kin"},        {"sa", "san"},        {"sc", "srd"},        {"sd", "snd"},
     {"se", "sme"},        {"sg", "sag"},        {"si", "sin"},        {"sk", "slk", "slo"}, {"sl", "slv"},
     {"sm", "smo"},        {"sn", "sna"},        {"so", "som"},        {"sq", "sqi", "alb"}, {"sr", "srp"},
     {"ss", "ssw"},        {"st", "sot"},        {"su", "sun"},        {"sv", "swe"},        {"sw", "swa"},
     {"ta", "tam"},        {"te", "tel"},        {"tg", "tgk"},        {"th", "tha"},        {"ti", "tir"},
     {"tk", "tuk"},        {"tl", "tgl"},        {"tn", "tsn"},        {"to", "ton"},        {"tr", "tur"},
     {"ts", "tso"},        {"tt", "tat"},        {"tw", "twi"},        {"ty", "tah"},        {"ug", "uig"},
     {"uk", "ukr"},        {"ur", "urd"},        {"uz", "uzb"},        {"ve", "ven"},        {"vi", "vie"},
     {"vo", "vol"},        {"wa", "wln"},        {"wo", "wol"},        {"xh", "xho"},        {"yi", "yid"},
     {"yo", "yor"},        {"za", "zha"},        {"zh", "zho", "chi"}, {"zu", "zul"}});
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

}  // namespace ruedo
