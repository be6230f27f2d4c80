// SPDX-License-Identifier: Apache-2.0
// Captions drawn into pictures, covers that go with clips, stills in the shape of a mount.
#include <numeric>

#include "conversions.h"
#include "convert/burned.h"
#include "convert/stills.h"
#include "media/codec_headers.h"
#include "text/caption_places.h"

using namespace ruedo;
using namespace ruedo::test;

namespace {
Cues one_cue(Time from, Time to, const std::string& words) {
    Cues cues;
    Cue c;
    c.start = from, c.end = to, c.runs = {{words}};
    cues.list.push_back(c);
    return cues;
}
std::unique_ptr<TextSetter> letters() { return value(CodecRegistry::standard().text_setter()); }
Frame grey(int width, int height, int rotation = 0, Rational pixel_aspect = {}) {
    std::array<std::uint8_t*, 3> planes{};
    auto p = make_frame(width, height, planes);
    for (std::size_t k = 0; k < 3; ++k) std::fill_n(planes[k], p.stride[k] * (k ? (height + 1) / 2 : height), 128);
    p.rotation = rotation, p.pixel_aspect = pixel_aspect;
    return p;
}
/// Where two pictures differ, upright and as they are shown; in shares of width and height.
struct Changed {
    double left = 1, top = 1, right = 0, bottom = 0;
    int darkest = 255, brightest = 0;
};
Changed between(const Frame& a, const Frame& b) {
    auto x = render(a), y = render(b);
    REQUIRE((x.width == y.width && x.height == y.height));
    Changed c;
    for (int row = 0; row < x.height; ++row)
        for (int column = 0; column < x.width; ++column) {
            auto i = static_cast<std::size_t>((row * x.width + column) * 4 + 1);
            if (std::abs(x.pixels[i] - y.pixels[i]) < 12) continue;
            auto u = (column + 0.5) / x.width, v = (row + 0.5) / x.height;
            c.left = std::min(c.left, u), c.right = std::max(c.right, u);
            c.top = std::min(c.top, v), c.bottom = std::max(c.bottom, v);
            c.darkest = std::min<int>(c.darkest, y.pixels[i]), c.brightest = std::max<int>(c.brightest, y.pixels[i]);
        }
    return c;
}
/// How many pixels of a picture are another, and not only less exact.
int far_apart(const Frame& a, const Frame& b) {
    auto x = render(a), y = render(b);
    int n = 0;
    for (std::size_t i = 1; i < std::min(x.pixels.size(), y.pixels.size()); i += 4)
        n += std::abs(x.pixels[i] - y.pixels[i]) > 60;
    return n;
}
}  // namespace

TEST_CASE("Captions are drawn upright, at the foot and in the middle, whatever way the picture lies",
          "[captions][convert]") {
    std::mt19937 random(31);
    for (int turn : {0, 90, 180, 270})
        for (auto aspect : {Rational{}, Rational{4, 3}, Rational{8, 9}})
            for (auto [w, h] : {std::pair{640, 360}, {361, 643}, {320, 240}}) {
                INFO(turn << " degrees, pixels " << aspect.num << ":" << aspect.den << ", " << w << " x " << h);
                CaptionBurner burner(one_cue(1_s, 2_s, "The lamp is lit at dusk"), letters());
                auto plain = grey(w, h, turn, aspect);
                CHECK(value(burner.burn(plain, 999_ms)).plane[0] == plain.plane[0]);
                CHECK(value(burner.burn(plain, 2_s)).plane[0] == plain.plane[0]);
                auto burn_in = value(burner.burn(plain, 1_s));
                CHECK((burn_in.rotation == turn && burn_in.pixel_aspect == aspect));
                auto c = between(plain, burn_in);
                CHECK(std::abs((c.left + c.right) / 2 - 0.5) < 0.02);
                CHECK((c.bottom > 0.93 && c.bottom < 0.995));
                CHECK((c.top > 0.7 && c.right - c.left > 0.2));
                // A dark ground with light letters.
                CHECK((c.darkest < 60 && c.brightest > 200));
            }
    // Never beyond the edges, wherever a cue wants to stand; the last is the lowest.
    for (int i = 0; i < 200; ++i) {
        Cue cue;
        cue.align = static_cast<Cue::Align>(random() % 3);
        if (random() % 2) cue.line = static_cast<int>(random() % 30) - 15;
        cue.line_percent = random() % 2 && cue.line && *cue.line >= 0;
        if (random() % 2) cue.position = static_cast<int>(random() % 101);
        cue.size = 1 + static_cast<int>(random() % 100);
        CaptionPlaces places(0, 0, 1000, 600, 600);
        auto wide = places.width_for(cue);
        auto used = wide * (1 + static_cast<int>(random() % 100)) / 100;
        auto box = places.place(cue, used, 60, 30);
        INFO(cue_settings(cue));
        CHECK((box.top >= 0 && box.top + 60 <= 600));
        if (cue.size >= 10 && !cue.position) CHECK((box.left >= 0 && box.left + used <= 1000.001));
        CHECK((box.block <= box.left + 0.001 && box.left + used <= box.block + wide + 0.001));
    }
    CaptionPlaces places(0, 0, 1000, 600, 600);
    auto last = places.place({}, 300, 40, 30), before = places.place({}, 300, 40, 30);
    CHECK(before.top + 40 <= last.top);
    // Letters of any script, and what is none, end in a picture.
    for (auto words :
         {"مرحبا", "灯台", "", "\xFF\xFE", "a\nb\nc", "word word word word word word word word word word word"}) {
        CaptionBurner burner(one_cue(0_s, 1_s, words), letters());
        CHECK(burner.burn(grey(64, 36), 0_s).has_value());
    }
}

TEST_CASE("Burnt captions are there when they are to be read, and nothing else is changed", "[captions][convert]") {
    Folder folder;
    auto source = fixture("text_webvtt.mkv");
    auto clip = open("text_webvtt.mkv");
    auto cues = value(read_cues(*clip, *std::find_if(clip->info().tracks.begin(), clip->info().tracks.end(),
                                                     [](auto& t) { return t.kind == Kind::text; })));
    Recipe r;
    r.captions = Recipe::Captions::burn;
    r.video.codec = Codec::h264, r.video.quality = 12;
    auto c = made(source.string(), folder / "b.mp4", r);
    CHECK(c.video.action == "encoded");
    std::shared_ptr<Clip> burn_in = value(open_clip((folder / "b.mp4").string()));
    for (auto& t : burn_in->info().tracks) CHECK(t.kind != Kind::text);
    auto a = value(FrameReader::open(clip, *clip->info().main(Kind::video), CodecRegistry::standard()));
    auto b = value(FrameReader::open(burn_in, *burn_in->info().main(Kind::video), CodecRegistry::standard()));
    int with = 0, without = 0;
    for (auto p = value(a->next()), q = value(b->next()); p && q; p = value(a->next()), q = value(b->next())) {
        bool shown = std::any_of(cues.list.begin(), cues.list.end(),
                                 [&](auto& k) { return k.start <= p->pts && p->pts < k.end; });
        (shown ? with : without)++;
        auto apart = far_apart(*p, *q);
        INFO(format_time(p->pts) << " " << apart);
        CHECK((apart > 120) == shown);
        CHECK((shown || apart < 30));
    }
    CHECK((with > 10 && without > 10));
    // Those of a file beside the clip, where it has none of its own; where there are none at all, that is said.
    fs::copy(fixture("vp9_opus.webm"), folder / "c.webm");
    std::string vtt = "WEBVTT\n\n00:01.000 --> 00:02.000\nFrom beside\n";
    r.video.codec = Codec::vp8;
    CHECK(says(made((folder / "c.webm").string(), folder / "n.webm", r), "no-captions"));
    put(folder / "c.vtt", ByteView(reinterpret_cast<const std::uint8_t*>(vtt.data()), vtt.size()));
    r.video.action = Recipe::Do::fit, r.from = 500_ms, r.to = 2500_ms;
    auto beside = made((folder / "c.webm").string(), folder / "d.webm", r);
    CHECK(beside.video.action == "encoded");
    std::shared_ptr<Clip> made_clip = value(open_clip((folder / "d.webm").string()));
    auto d = value(FrameReader::open(made_clip, *made_clip->info().main(Kind::video), CodecRegistry::standard()));
    auto whole = open("vp9_opus.webm");
    auto e = value(FrameReader::open(whole, *whole->info().main(Kind::video), CodecRegistry::standard()));
    for (auto [at, shown] : {std::pair{400_ms, false}, {600_ms, true}, {1400_ms, true}, {1600_ms, false}}) {
        CHECK((far_apart(value(e->at(at + 500_ms)), value(d->at(at))) > 120) == shown);
    }
}

TEST_CASE("A picture that stays is made anew where its captions change", "[captions][convert]") {
    Folder folder;
    auto path = odd_clip(folder, "slow.webm", 320, 180, {0_s, 4_s, 4100_ms}, 2_s);
    std::string vtt =
        "WEBVTT\n\n00:01.000 --> 00:02.500\nOne\n\n00:02.000 --> 00:03.000\nTwo\n\n00:05.000 --> 00:09.000\nThree\n";
    put(folder / "slow.vtt", ByteView(reinterpret_cast<const std::uint8_t*>(vtt.data()), vtt.size()));
    Recipe r;
    r.captions = Recipe::Captions::burn;
    (void)made(path.string(), folder / "b.mkv", r);
    std::vector<Time> times;
    for (auto& s : frames_in(folder / "b.mkv")) times.push_back(s.pts);
    CHECK(times == std::vector<Time>{0_s, 1_s, 2_s, 2500_ms, 3_s, 4_s, 4100_ms, 5_s});
    CHECK(value(open_clip((folder / "b.mkv").string()))->info().duration == 6100_ms);
}

TEST_CASE("A cover goes with its clip, as far as containers have a place for one", "[captions][convert]") {
    Folder folder;
    auto& codecs = CodecRegistry::standard();
    // A JPEG and a PNG of some size.
    StillOptions still;
    still.out = folder / "stills", still.at = {1_s}, still.width = 300, still.height = 300;
    auto png = bytes_of(value(stills(fixture("vp9_opus.webm").string(), still, codecs)).at(0).path);
    still.format = StillOptions::Format::jpeg;
    auto jpeg = bytes_of(value(stills(fixture("vp9_opus.webm").string(), still, codecs)).at(0).path);
    CHECK((ClipTags::image_type(png) == "image/png" && ClipTags::image_type(jpeg) == "image/jpeg"));
    CHECK((ClipTags::image_type({}).empty() && ClipTags::image_type(ByteView(png).subspan(1)).empty()));
    CHECK(std::equal(jpeg.begin(), jpeg.end(), picture_in_block(make_picture_block(jpeg)).begin()));
    for (std::size_t n = 0; n < 60; ++n) CHECK(picture_in_block(ByteView(make_picture_block(png)).first(n)).empty());
    for (auto* cover : {&jpeg, &png}) {
        put(folder / "t.flac", with_tags(*open("audio.flac"), "flac", {"With a cover", {}, *cover}));
        auto heard = audio_of(std::shared_ptr<Clip>(value(open_clip((folder / "t.flac").string()))));
        for (auto [out, container_format, kept] : {std::tuple{"a.mp4", "", true},
                                                   {"b.mp4", "mp4-fragments", true},
                                                   {"a.mkv", "", true},
                                                   {"a.ogg", "", true},
                                                   {"a.flac", "", true},
                                                   {"a.mp3", "", true},
                                                   {"a.webm", "", false},
                                                   {"a.wav", "", false}}) {
            INFO(out);
            Recipe r;
            r.container_format = container_format;
            (void)value(convert((folder / "t.flac").string(),
                                {.out = folder / out, .recipe = r, .target = {}, .replace = Replace::anything},
                                codecs));
            std::shared_ptr<Clip> result = value(open_clip((folder / out).string()));
            CHECK(result->info().tags.cover == (kept ? *cover : Bytes{}));
            if (kept) CHECK(result->info().tags.title == "With a cover");
            CHECK(audio_of(result).size() == heard.size());
        }
    }
    ClipTags tags;
    tags.take_cover(Bytes(100, 7));
    CHECK(tags.cover.empty());
    tags.take_cover(png), tags.take_cover(jpeg);
    CHECK(tags.cover == png);
}

TEST_CASE("A still fills the size it is given where it is to, and what reaches beyond is cut off evenly",
          "[captions][convert]") {
    Folder folder;
    StillOptions o;
    o.out = folder / "s", o.at = {1_s}, o.fills = true;
    auto& codecs = CodecRegistry::standard();
    for (auto [w, h] : {std::pair{360, 780}, {780, 360}, {640, 360}, {64, 64}}) {
        o.width = w, o.height = h, o.replace = Replace::anything;
        auto made_still = value(stills(fixture("h264_high_aac.mp4").string(), o, codecs)).at(0);
        CHECK((made_still.width == w && made_still.height == h));
        auto png = bytes_of(made_still.path);
        ByteReader head(ByteView(png).subspan(16));
        CHECK(head.u32() == static_cast<unsigned>(w));
        CHECK(head.u32() == static_cast<unsigned>(h));
    }
}
