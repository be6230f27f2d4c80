// SPDX-License-Identifier: Apache-2.0
#include "convert/targets.h"
#include "player/player.h"

#include "support.h"

using namespace ruedo;
using namespace ruedo::test;
using nlohmann::json;

namespace {
PlayerDocument random_document(std::mt19937& random) {
    PlayerDocument d;
    d.app_name = "App " + std::to_string(random() % 1000) + " “ü”";
    for (unsigned i = random() % 4; i > 0; --i) {
        SourceSpec s;
        s.name = "Clip " + std::to_string(i), s.file = "media/" + std::to_string(i) + ".webm";
        s.start = {static_cast<Start::How>(random() % 3), {}};
        if (s.start.how == Start::How::delay) s.start.delay = 1_ms * static_cast<std::int64_t>(random() % 5000);
        s.loop.kind = static_cast<Loop::Kind>(random() % 3);
        if (s.loop.kind == Loop::Kind::range)
            s.loop.from = 1_s, s.loop.to = 1_s + 1_ms * static_cast<std::int64_t>(1 + random() % 5000);
        s.fit = static_cast<Fit>(random() % 4);
        s.align_x = static_cast<double>(random() % 3) / 2, s.align_y = static_cast<double>(random() % 3) / 2;
        static constexpr std::array languages{"", "en", "de", "pt-BR", "zh-Hant"};
        s.sound_language = languages[random() % languages.size()],
        s.text_language = languages[random() % languages.size()];
        if (random() % 2) s.poster = "posters/“" + std::to_string(random() % 100) + "”.png";
        for (auto n = random() % 3; n > 0; --n)
            s.captions.push_back("media/" + std::to_string(i) + "." + std::to_string(n) + ".vtt");
        d.sources.push_back(s);
    }
    d.hide_after = 1_ms * static_cast<std::int64_t>(1000 + random() % 9000);
    d.open_within = 1_s * static_cast<std::int64_t>(1 + random() % 600);
    d.queue = static_cast<Queue>(random() % 4);
    d.target = random() % 2 ? "handset-recent" : "desktop";
    for (auto* group : {&d.bar.start, &d.bar.middle, &d.bar.end}) {
        if (random() % 2) continue;
        group->clear();
        for (auto n = random() % (control_kinds().size() + 1); n > 0; --n)
            group->push_back(static_cast<Control>(random() % control_kinds().size()));
    }
    d.surround = random() % 2 ? "#17131A" : "#8a2436";
    d.skip = 1_s * static_cast<std::int64_t>(1 + random() % 60);
    d.volume = static_cast<double>(random() % 101) / 100;
    d.mount = static_cast<Mount>(random() % 3);
    return d;
}
}  // namespace

TEST_CASE("a document is read as it was written") {
    std::mt19937 random(16);
    Folder folder;
    for (int i = 0; i < 200; ++i) {
        auto d = random_document(random);
        done(save_document(d, folder / "a.ruedo"));
        CHECK(value(load_document(folder / "a.ruedo")) == d);
    }
}

TEST_CASE("the random documents set every field there is, so that what they show holds for each") {
    // Whatever a document can hold differs from a plain one's in some of them.
    std::mt19937 random(16);
    json plain = to_json(PlayerDocument{});
    SourceSpec plain_source;
    plain_source.file = "x";
    PlayerDocument one;
    one.sources = {plain_source};
    std::map<std::string, bool> differs;
    std::function<void(const json&, const json&, std::string)> walk = [&](const json& a, const json& b,
                                                                          std::string at) {
        for (auto& [key, value] : a.items()) {
            if (key == "sources" || key == "ruedo") continue;
            if (value.is_object() && b.contains(key))
                walk(value, b[key], at + "/" + key);
            else
                differs[at + "/" + key] = differs[at + "/" + key] || !b.contains(key) || b[key] != value;
        }
    };
    auto schema = json::parse(std::ifstream(std::string(RUEDO_DOCS) + "/project.schema.json"));
    for (int i = 0; i < 60; ++i) {
        auto j = to_json(random_document(random));
        walk(j, plain, "");
        for (auto& s : j["sources"]) walk(s, to_json(one)["sources"][0], "/source");
    }
    for (auto& [path, different] : differs) {
        INFO(path);
        CHECK(different);
    }
    for (auto& [key, unused] : schema["properties"]["player"]["properties"].items()) {
        INFO(key);
        CHECK((key == "bar" || differs.contains("/player/" + key)));
    }
    for (auto& [key, unused] : schema["properties"]["sources"]["items"]["properties"].items()) {
        INFO(key);
        CHECK(differs.contains("/source/" + key));
    }
}

TEST_CASE("format numbers that never were are refused, however large or small they are") {
    auto good = to_json(PlayerDocument{});
    for (auto& [number, code] : std::vector<std::pair<json, Code>>{{-1, Code::malformed},
                                                                   {0, Code::malformed},
                                                                   {4294967297ULL, Code::too_new},
                                                                   {UINT64_MAX, Code::too_new},
                                                                   {INT64_MIN, Code::malformed},
                                                                   {2, Code::too_new}}) {
        auto j = good;
        j["ruedo"] = number;
        INFO(number.dump());
        auto d = document_from_json(j, "a.ruedo");
        REQUIRE_FALSE(d.has_value());
        CHECK(d.error().code == code);
    }
    CHECK(document_from_json(good, "a.ruedo").has_value());
}

TEST_CASE("a mistake in a document is named by its place") {
    auto good = to_json([] {
        std::mt19937 r(1);
        PlayerDocument d = random_document(r);
        SourceSpec s;
        s.file = "a.mp4";
        d.sources = {s};
        return d;
    }());
    auto at = [&](const char* pointer, json bad) {
        auto j = good;
        j[json::json_pointer(pointer)] = std::move(bad);
        auto d = document_from_json(j, "a.ruedo");
        REQUIRE_FALSE(d.has_value());
        CHECK(d.error().sentence.find(pointer) != std::string::npos);
        return d.error().code;
    };
    CHECK(at("/sources/0/fit", "squeeze") == Code::malformed);
    CHECK(at("/sources/0/start", 7) == Code::malformed);
    CHECK(at("/sources/0/loop", {{"from_ns", 5}, {"to_ns", 5}}) == Code::malformed);
    CHECK(at("/sources/0/align", {0.5, 2}) == Code::malformed);
    CHECK(at("/sources/0/flie", "x") == Code::malformed);
    CHECK(at("/player/volume", 1.5) == Code::malformed);
    CHECK(at("/player/skip_ns", -1) == Code::malformed);
    CHECK(at("/player/surround", "pink") == Code::malformed);
    CHECK(at("/player/bar/end", {"toggle", "lever"}) == Code::malformed);
    CHECK(at("/mount", json::array()) == Code::malformed);
    auto newer = good;
    newer["ruedo"] = 99;
    CHECK(document_from_json(newer, "a").error().code == Code::too_new);
    CHECK(document_from_json(json::array(), "a").error().code == Code::malformed);
}

TEST_CASE("a document that is cut or scrambled is refused in one sentence") {
    std::mt19937 random(17);
    Folder folder;
    auto text = to_json(random_document(random)).dump(2);
    for (int i = 0; i < 300; ++i) {
        auto bad = text;
        if (i % 2)
            bad.resize(random() % bad.size());
        else
            for (int k = 0; k < 3; ++k) bad[random() % bad.size()] = static_cast<char>(random());
        put(folder / "x.ruedo", {reinterpret_cast<const std::uint8_t*>(bad.data()), bad.size()});
        auto d = load_document(folder / "x.ruedo");
        if (!d) CHECK_FALSE(d.error().sentence.empty());
    }
}

TEST_CASE("saving over a project leaves the old one when it can't be done") {
    Folder folder;
    std::mt19937 random(18);
    auto first = random_document(random);
    done(save_document(first, folder / "p.ruedo"));
    CHECK_FALSE(save_document(first, folder.path / "no-folder" / "p.ruedo").has_value());
    CHECK(value(load_document(folder / "p.ruedo")) == first);
    CHECK(std::distance(fs::directory_iterator(folder.path), {}) == 1);
}

TEST_CASE("names for files and programs are plain and never empty") {
    CHECK(file_stem("Harbour Lights") == "harbour-lights");
    CHECK(file_stem("../../etc/x y") == "etc-x-y");
    CHECK(file_stem("ÄÖ") == "player");
    CHECK(file_stem("") == "player");
    for (auto name : {"Media", "LIB", "media ", "lib"}) CHECK((file_stem(name) != "media" && file_stem(name) != "lib"));
}

TEST_CASE("the review finds what stands in a player's way") {
    Folder folder;
    fs::copy_file(fixture("vp9_opus.webm"), folder / "lantern.webm");
    fs::copy_file(fixture("encrypted_encv.mp4"), folder / "locked.mp4");
    PlayerDocument d;
    SourceSpec good, missing, locked, stretched;
    good.file = "lantern.webm", missing.file = "lantren.webm", locked.file = "locked.mp4",
    stretched.file = "lantern.webm";
    stretched.fit = Fit::fill;
    stretched.loop = {Loop::Kind::range, 1_s, 99_s};
    d.sources = {good};
    CHECK(review(d, folder.path).empty());
    d.sources = {good, missing, locked, stretched};
    auto found = review(d, folder.path);
    auto says = [&](std::size_t source, const std::string& word) {
        return std::any_of(found.begin(), found.end(), [&](auto& f) {
            return f.source == source && (f.sentence + f.why).find(word) != std::string::npos;
        });
    };
    CHECK(says(1, "lantern.webm"));
    CHECK(says(2, "encrypted"));
    CHECK(says(3, "stretched"));
    CHECK(says(3, "loop"));
    d.bar.start.clear();
    d.sources = {good};
    CHECK(review(d, folder.path).size() == 1);
}

TEST_CASE("the schema in the documentation knows every key that is written") {
    auto schema = json::parse(std::ifstream(std::string(RUEDO_DOCS) + "/project.schema.json"));
    std::function<void(const json&, const json&, std::string)> walk = [&](const json& j, const json& s,
                                                                          std::string at) {
        if (!j.is_object() || !s.contains("properties")) return;
        for (auto& [key, inner] : j.items()) {
            INFO(at + "/" + key);
            REQUIRE(s["properties"].contains(key));
            auto& sub = s["properties"][key];
            if (inner.is_array() && !inner.empty() && sub.contains("items"))
                walk(inner[0], sub["items"], at + "/" + key + "/0");
            else
                walk(inner, sub, at + "/" + key);
        }
    };
    std::mt19937 random(19);
    for (int i = 0; i < 20; ++i) walk(to_json(random_document(random)), schema, "");
}

TEST_CASE("each kind of control is one row: found by its name, documented, and saying what it does in every state") {
    auto rows = control_kinds();
    for (std::size_t i = 0; i < rows.size(); ++i) {
        auto& k = rows[i];
        INFO(k.name);
        CHECK(static_cast<std::size_t>(k.control) == i);
        CHECK(&kind_of(k.control) == &k);
        CHECK(find_control(k.name) == &k);
        CHECK_FALSE(k.title.empty());
        CHECK_FALSE(k.meaning.empty());
        CHECK(document_from_json({{"ruedo", 1}, {"player", {{"bar", {{"start", {k.name}}}}}}}, "x").has_value());
        if (!k.setting.empty())
            CHECK(to_json(PlayerDocument{}).contains(nlohmann::json::json_pointer(std::string(k.setting))));
        for (int bits = 0; bits < 256; ++bits) {
            ControlContext c;
            c.snapshot.state.intent = bits & 1 ? Intent::play : Intent::hold;
            c.snapshot.live = bits & 2;
            if (!c.snapshot.live || bits & 4) c.snapshot.seekable = TimeRange{{}, bits & 8 ? 10_s : Time::max()};
            c.snapshot.has_audio = bits & 16;
            c.snapshot.muted = bits & 32;
            c.count = bits & 64 ? 3 : 1;
            c.has_next = bits & 128;
            CHECK_FALSE(k.label(c).empty());
            bool button = k.form == ControlKind::Form::button || k.form == ControlKind::Form::dial;
            CHECK((k.mark(c).shape != Mark::Shape::none) == button);
            CHECK((k.press(c).what != Press::What::none) == button);
            if (k.control == Control::toggle)
                CHECK(k.mark(c).shape == (bits & 1 ? Mark::Shape::pause : Mark::Shape::play));
            if (k.control == Control::position || k.control == Control::back)
                CHECK(k.absent(c).empty() == c.snapshot.seekable.has_value());
            if (k.control == Control::strip) CHECK(k.absent(c).empty() == (c.count > 1));
            if (k.control == Control::next) CHECK(k.idle(c).empty() == c.has_next);
            if (k.control == Control::volume) CHECK(k.press(c).onward != c.snapshot.muted);
        }
    }
    CHECK_FALSE(find_control("gong"));
    CHECK(spoken({}) == "nothing");
    CHECK(spoken(std::array{Control::toggle, Control::back, Control::forward}) == "play, back and forward");
    std::ifstream page(fs::path(RUEDO_DOCS) / "controls.md");
    CHECK(std::string((std::istreambuf_iterator<char>(page)), {}) == controls_page());
    auto schema = nlohmann::json::parse(std::ifstream(fs::path(RUEDO_DOCS) / "project.schema.json"));
    auto names = nlohmann::json::array();
    for (auto& k : rows) names.push_back(k.name);
    CHECK(schema["$defs"]["controls"]["items"]["enum"] == names);
}

TEST_CASE("the target schema in the documentation knows every codec and container that opens") {
    auto schema = nlohmann::json::parse(std::ifstream(fs::path(RUEDO_DOCS) / "target.schema.json"));
    auto codecs = schema["$defs"]["rule"]["properties"]["codec"]["enum"].get<std::vector<std::string>>();
    for (int i = 0; i < static_cast<int>(Codec::unknown); ++i) {
        auto codec = static_cast<Codec>(i);
        auto name = std::string(codec_name(codec));
        CHECK(codec_from_name(name) == codec);
        bool played = CodecRegistry::standard().decodes(codec) && codec != Codec::raw;
        CHECK((std::find(codecs.begin(), codecs.end(), name) != codecs.end()) == played);
    }
    CHECK(codec_from_name("gong") == Codec::unknown);
    auto containers = schema["properties"]["containers"]["items"]["enum"].get<std::vector<std::string>>();
    for (auto& name : containers) CHECK(container_title(name) != name);
    for (auto& target : all_targets())
        if (target.name == "desktop") CHECK(target.containers.size() == containers.size());
}
