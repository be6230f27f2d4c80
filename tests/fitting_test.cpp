// SPDX-License-Identifier: Apache-2.0
// The shelf at once, what a recipe fixes, pairs of pictures, and what was made held against what it was made of.
#include "conversions.h"
#include "convert/fitting.h"
#include "convert/mends.h"
#include "convert/pairs.h"
#include "pack/pack.h"
#include "player/player.h"

using namespace ruedo;
using namespace ruedo::test;
using What = TargetReport::What;

namespace {
auto& codecs() { return CodecRegistry::standard(); }
std::set<std::string> findings_of(const fs::path& file) {
    std::shared_ptr<Clip> clip = value(open_clip(file.string()));
    std::set<std::string> codes;
    for (auto& f : value(gather_facts(clip, codecs(), file.string())).findings) codes.insert(f.code);
    return codes;
}
}  // namespace

TEST_CASE("What becomes of each source agrees with the target's verdict, and is made as it was said", "[targets]") {
    Folder folder;
    for (auto& target : all_targets())
        for (auto* name : {"h264_high_aac.mp4", "vp9_opus.webm", "mjpeg_pcm.avi", "audio_opus.ogg", "h264_aac.ts",
                           "encrypted_encv.mp4", "two_audio_languages.mkv"}) {
            INFO(name << " for " << target.name);
            auto source = fixture(name).string();
            auto f = report_for(source, target, {}, {}, codecs());
            REQUIRE_FALSE(f.why.empty());
            std::shared_ptr<Clip> clip = value(open_clip(source));
            auto verdict = judge(value(gather_facts(clip, codecs(), source, {.loudness = false})), target, codecs());
            CHECK((f.what == What::as_it_is) == (verdict.plays == Verdict::Plays::yes));
            CHECK((f.what == What::refused) == (verdict.plays == Verdict::Plays::no));
            auto j = to_json(f);
            CHECK((j["recipe"].is_null() == !(f.what == What::rewrapped || f.what == What::converted)));
            if (!f.makes()) continue;
            // Quickly, and only its beginning; rewrapped means that nothing is encoded.
            f.recipe.video.effort = 0;
            if (f.recipe.video.action == Recipe::Do::encode) f.recipe.to = 500_ms;
            auto out = place_for(folder.path, source, target, f.ending);
            auto c = value(convert(source, {.out = out, .recipe = f.recipe, .target = target}, codecs()));
            CHECK((f.what == What::rewrapped) == (c.video.action != "encoded" && c.audio.action != "encoded"));
            if (f.what == What::rewrapped) CHECK(f.bytes_after == f.bytes_before);
            auto again = report_for(source, target, {}, out, codecs());
            CHECK((again.made && !again.makes() && again.what == f.what));
            CHECK(again.bytes_after == fs::file_size(out));
            CHECK(place_for(folder.path, source, target, f.ending) != out);
        }
    auto desktop = value(find_target("desktop"));
    CHECK(report_for("camera://harbour", desktop, {}, {}, codecs()).what == What::elsewhere);
    auto gone = report_for((folder / "gone.mp4").string(), desktop, {}, {}, codecs());
    CHECK((gone.what == What::refused && gone.why.front().find("gone.mp4") != std::string::npos));
    // What was chosen is made even where it would play as it is; what the target won't take is refused.
    Recipe small;
    small.container_format = "webm", small.video.action = Recipe::Do::encode, small.video.codec = Codec::vp9;
    CHECK(report_for(fixture("vp9_opus.webm").string(), desktop, small, {}, codecs()).what == What::converted);
    auto handset = value(find_target("handset-basic"));
    auto unfit = report_for(fixture("vp9_opus.webm").string(), handset, small, {}, codecs());
    CHECK(unfit.what == What::refused);
}

TEST_CASE("What is foretold of a source on the shelf is about what comes", "[targets]") {
    Folder folder;
    auto handset = value(find_target("handset-basic"));
    auto source = fixture("vp9_opus.webm").string();
    auto f = report_for(source, handset, {}, {}, codecs());
    CHECK((f.what == What::converted && f.bytes_after == 0));
    f.recipe.video.effort = 0;
    done(estimate(f, source, handset, folder / "t.mp4", codecs()));
    auto c = value(convert(source, {.out = folder / "w.mp4", .recipe = f.recipe, .target = handset}, codecs()));
    INFO(f.bytes_after << " was foretold, " << c.bytes << " came");
    CHECK((f.bytes_after > c.bytes / 2 && f.bytes_after < c.bytes * 2));
    CHECK(f.took.ns > 0);
    // Nothing is tried of what stays.
    auto stays = report_for(fixture("h264_high_aac.mp4").string(), value(find_target("desktop")), {}, {}, codecs());
    done(estimate(stays, source, handset, folder / "none.mp4", codecs()));
    CHECK_FALSE(fs::exists(folder / "none.mp4"));
    std::atomic<bool> cancel = true;
    CHECK(estimate(f, source, handset, folder / "x.mp4", codecs(), &cancel).error().code == ErrorCode::cancelled);
}

TEST_CASE("Names of what is made say source and target, and never take another's place", "[targets]") {
    Folder folder;
    auto t = value(find_target("desktop"));
    CHECK(place_for(folder.path, "/a/b/stairs.mp4", t, "webm") == folder / "stairs for desktop.webm");
    CHECK(place_for(folder.path, "https://x.example/clips/sea.mp4?key=1", t, "webm").parent_path() == folder.path);
    CHECK(place_for(folder.path, "http://x.example/", t, "mp4") == folder / "clip for desktop.mp4");
    std::set<fs::path> taken;
    for (int i = 0; i < 5; ++i) {
        auto place = place_for(folder.path, "a.mp4", t, "mp4", [&](auto& p) { return taken.contains(p); });
        CHECK(taken.insert(place).second);
        if (i % 2) std::ofstream(place) << "x", taken.erase(place);
    }
}

TEST_CASE("A recipe mends what was found", "[targets]") {
    Folder folder;
    int fixed = 0;
    for (auto& name : playable()) {
        auto source = fixture(name).string();
        for (auto& code : findings_of(source)) {
            auto* fix = recipe_fix_for(code);
            if (!fix) continue;
            INFO(name << ": " << code);
            auto clip = value(open_clip(source));
            Recipe r;
            fix->apply(r, clip->info());
            r.video.effort = 0, r.to = 2_s;
            auto out = folder / "m.mp4";
            (void)value(
                convert(source, {.out = out, .recipe = r, .target = {}, .replace = Replace::anything}, codecs()));
            CHECK_FALSE(findings_of(out).contains(code));
            ++fixed;
        }
    }
    CHECK(fixed >= 3);
    // Every row says something, once.
    std::set<std::string_view> seen;
    for (auto& m : recipe_fixes()) {
        CHECK(seen.insert(m.finding).second);
        CHECK(m.words.size() > 10);
        Recipe r;
        m.apply(r, {});
        CHECK(value(recipe_from_json(to_json(r), "r")) == r);
    }
    CHECK_FALSE(recipe_fix_for("no such finding"));
}

TEST_CASE("Pairs are what both clips show at a time, entered anywhere or walked", "[targets]") {
    Folder folder;
    auto source = fixture("h264_high_aac.mp4").string();
    std::mt19937 random(5);
    for (int i = 0; i < 3; ++i) {
        Recipe r;
        r.from = 1_ms * static_cast<std::int64_t>(random() % 3000), r.to = r.from + 1500_ms;
        r.video.action = Recipe::Do::encode, r.video.codec = Codec::vp8;
        auto part = folder / ("p" + std::to_string(i) + ".webm");
        (void)made(source, part, r);
        auto walked = value(Pairs::open(source, part.string(), codecs(), r.from));
        auto entered = value(Pairs::open(source, part.string(), codecs(), r.from));
        auto number = [](const Frame& p) { return demo::read_strip(render(p)).value_or(-1); };
        std::optional<Pair> pair = value(walked->at(r.from));
        Time before{-1};
        int pairs = 0;
        for (; pair && pair->at < *r.to; pair = value(walked->next()), ++pairs) {
            CHECK(pair->at > before);
            before = pair->at;
            // Both bear the number of the same picture.
            CHECK(number(pair->before) >= 0);
            CHECK(number(pair->before) == number(pair->after));
            if (random() % 6) continue;
            auto same = value(entered->at(pair->at));
            CHECK((same.at == pair->at && number(same.after) == number(pair->after)));
            // One can go on from there, and back again.
            if (auto next = value(entered->next())) CHECK(next->at > same.at);
        }
        CHECK(pairs > 30);
        std::atomic<bool> cancel = true;
        CHECK(entered->at(r.from, &cancel).error().code == ErrorCode::cancelled);
    }
    CHECK(Pairs::open(source, fixture("audio.flac").string(), codecs()).error().code == ErrorCode::not_media);
}

TEST_CASE("What was made is held against the whole of what it was made of", "[targets]") {
    Folder folder;
    auto source = fixture("vp9_opus.webm").string();
    Recipe r;
    r.video.action = Recipe::Do::encode, r.video.codec = Codec::h264, r.video.quality = 30;
    auto c = made(source, folder / "m.mp4", r);
    double told = 0;
    auto held = value(hold_against(source, c.path, {}, codecs(), nullptr, [&](double part) {
        CHECK((part >= told && part <= 1));
        told = part;
    }));
    CHECK(told > 0.9);
    CHECK(held.whole_bytes == c.bytes);
    CHECK(held.likeness.frames == c.video.frames);
    CHECK((held.likeness.ssim_y < 1 && held.likeness.ssim_y > 0.5));
    CHECK((held.from == Time{} && std::abs((held.to - c.duration).ns) < 2'000'000));
    CHECK(held.sentence().find("least alike") != std::string::npos);
    auto sum = [](const std::vector<double>& v) { return std::accumulate(v.begin(), v.end(), 0.0); };
    CHECK((sum(held.after) > 0 && sum(held.after) < static_cast<double>(c.bytes)));
    // A part, and what only changed its container.
    r.from = 1_s, r.to = 2_s;
    auto part = value(hold_against(source, made(source, folder / "p.mp4", r).path, 1_s, codecs()));
    CHECK((part.likeness.frames >= 29 && part.likeness.places.front().at >= 1_s));
    auto same = value(hold_against(source, made(source, folder / "s.mkv").path, {}, codecs()));
    CHECK(same.likeness.identical);
    // Sound alone has figures of bytes.
    auto audio = made(fixture("audio.flac").string(), folder / "s.mp3");
    CHECK(value(hold_against(fixture("audio.flac").string(), audio.path, {}, codecs())).likeness.frames == 0);
    std::atomic<bool> cancel = true;
    CHECK(hold_against(source, c.path, {}, codecs(), &cancel).error().code == ErrorCode::cancelled);
    CHECK(hold_against(source, folder / "gone.mp4", {}, codecs()).error().code == ErrorCode::not_found);
}

TEST_CASE("No run lies above the line of those that none beats", "[targets]") {
    std::mt19937 random(12);
    for (int round = 0; round < 200; ++round) {
        std::vector<std::pair<double, double>> points(random() % 12);
        for (auto& p : points) p = {1 + random() % 50, static_cast<double>(random() % 40) / 40};
        auto hull = upper_hull(points);
        CHECK(hull.empty() == points.empty());
        for (std::size_t i = 1; i < hull.size(); ++i) {
            CHECK(points[hull[i]].first > points[hull[i - 1]].first);
            CHECK(points[hull[i]].second > points[hull[i - 1]].second);
        }
        for (auto& p : points) {
            // Beyond the best nothing is better; before it nothing is above the line.
            CHECK((hull.empty() || p.second <= points[hull.back()].second));
            CHECK((hull.empty() || p.first >= points[hull.front()].first));
            for (std::size_t i = 1; i < hull.size(); ++i) {
                auto &a = points[hull[i - 1]], &b = points[hull[i]];
                if (p.first < a.first || p.first > b.first) continue;
                auto line = a.second + (b.second - a.second) * (p.first - a.first) / (b.first - a.first);
                CHECK(p.second <= line + 1e-9);
            }
        }
    }
}

TEST_CASE("How loud a stretch is agrees with the whole", "[targets]") {
    for (auto* name : {"audio.flac", "vp9_opus.webm", "h264_high_aac.mp4"}) {
        auto clip = open(name);
        auto whole = value(gather_facts(clip, codecs())).loudness->integrated;
        auto reader = value(AudioReader::open(clip, *clip->info().main(Kind::audio), codecs()));
        INFO(name);
        CHECK(loudness_of(*reader, Time::max()).value() == Approx(whole).margin(0.1));
        CHECK_FALSE(loudness_of(*reader, Time::max()));  // nothing is left
    }
}

TEST_CASE("For its target a document plays and packs what was made, once it is there", "[targets]") {
    Folder folder;
    fs::copy_file(fixture("vp9_opus.webm"), folder / "a.webm");
    PlayerDocument d;
    d.target = "handset-basic";
    SourceSpec s;
    s.name = "A", s.file = "a.webm";
    s.prepare_for("handset-basic").file = "a for handset-basic.mp4";
    CHECK(s.prepared.size() == 1);
    s.prepare_for("handset-basic").recipe = Recipe{};
    CHECK((s.prepared.size() == 1 && !s.prepared_for("desktop")));
    d.sources.push_back(s);
    CHECK(for_target(d, folder.path).sources[0].file == "a.webm");
    Recipe r;
    r.to = 1_s, r.container_format = "mp4";
    (void)made((folder / "a.webm").string(), folder / "a for handset-basic.mp4", r);
    CHECK(for_target(d, folder.path).sources[0].file == "a for handset-basic.mp4");
    auto needs = value(needs_of(d, folder.path, codecs(), info_of));
    REQUIRE(needs.media.size() == 1);
    CHECK(needs.media[0].first == folder / "a for handset-basic.mp4");
    d.target = "desktop";
    CHECK(for_target(d, folder.path).sources[0].file == "a.webm");
    // A document names each target once, and nothing but recipes.
    auto j = to_json(d);
    j["sources"][0]["prepared"].push_back(j["sources"][0]["prepared"][0]);
    CHECK(document_from_json(j, "d").error().sentence.find("/sources/0/prepared/1") != std::string::npos);
    j["sources"][0]["prepared"] = {{{"target", "x"}, {"recipe", {{"video", 7}}}}};
    CHECK(document_from_json(j, "d").error().sentence.find("/sources/0/prepared/0/recipe") != std::string::npos);
}

namespace {
/// Gives a reader up at its `count`-th read, as a hand does that wants something else by then.
class Impatient final : public ByteSource {
  public:
    Impatient(std::shared_ptr<ByteSource> of, std::atomic<bool>& flag) : of_(std::move(of)), flag_(flag) {}
    Result<std::size_t> read_at(std::uint64_t offset, std::span<std::uint8_t> into) override {
        ++reads;
        if (left > 0 && --left == 0) flag_ = true;
        if (ReadScope::given_up()) return std::unexpected(ReadScope::stopped("it"));
        return of_->read_at(offset, into);
    }
    std::optional<std::uint64_t> size() const override { return of_->size(); }
    const std::string& name() const override { return of_->name(); }
    int left = 0, reads = 0;

  private:
    std::shared_ptr<ByteSource> of_;
    std::atomic<bool>& flag_;
};
}  // namespace

TEST_CASE("What was given up can be asked for again, at whichever read of it", "[targets]") {
    for (auto& name : playable()) {
        INFO(name);
        std::atomic<bool> flag = false;
        auto source = std::make_shared<Impatient>(value(open_file(fixture(name))), flag);
        auto good = value(open_clip(source));
        auto& info = good->info();
        // Opening says so, and never takes what it could not read for what is there.
        for (int left = 1; left < 40; left += left < 12 ? 1 : 4) {
            flag = false, source->left = left;
            ReadScope scope(&flag);
            auto got = open_clip(source);
            if (!got) {
                CHECK(got.error().code == ErrorCode::cancelled);
                continue;
            }
            auto& now = (*got)->info();
            INFO("given up at read " << left << ", or never: " << flag);
            CHECK((now.tracks.size() == info.tracks.size() && now.duration == info.duration));
            CHECK(now.findings.size() == info.findings.size());
        }
        source->left = 0, flag = false;
        auto* track = info.main(Kind::video);
        if (!track || !info.duration_known) continue;
        std::shared_ptr<Clip> clip = value(open_clip(source));
        auto middle = std::min(info.duration / 2, 1200_ms), early = std::min(middle, 300_ms);
        auto pts_at = [&](Time t) { return value(value(FrameReader::open(open(name), *track, codecs()))->at(t)).pts; };
        auto wanted = pts_at(middle), sooner = pts_at(early);
        std::unique_ptr<FrameReader> reader;
        {
            // Made while nothing may be read: what was not read then is read when it is needed.
            flag = true;
            ReadScope scope(&flag);
            reader = value(FrameReader::open(clip, *track, codecs()));
        }
        flag = false;
        CHECK(value(reader->at(middle)).pts == wanted);
        for (int left = 1; left < 12; left += left < 4 ? 1 : 2) {
            // There and back, so that each of them is a jump.
            bool far = left % 3 == 0;
            auto place = far ? middle : early, there = far ? wanted : sooner;
            flag = false, source->left = left;
            auto got = reader->at(place, &flag);
            CHECK((got ? got->pts == there : got.error().code == ErrorCode::cancelled));
            source->left = 0, flag = false;
            CHECK(value(reader->at(place, &flag)).pts == there);
        }
    }
}

TEST_CASE("An index that was not read to its end, as somebody went elsewhere meanwhile, is read for the next place",
          "[targets]") {
    Folder folder;
    {
        auto writer = value(webm_muxer(folder / "long.webm"));
        MuxerTrack pictures;
        pictures.codec = Codec::vp8, pictures.video.width = 64, pictures.video.height = 48;
        auto track = value(writer->add(pictures));
        for (int i = 0; i < 500; ++i) {
            Bytes data(10'000, static_cast<std::uint8_t>(i % 12 ? 1 : 0));
            done(writer->write(track, {40_ms * i, 40_ms * i, 40_ms, i % 12 == 0, data}));
        }
        done(writer->finish());
    }
    std::atomic<bool> flag = false;
    auto source = std::make_shared<Impatient>(value(open_file(folder / "long.webm")), flag);
    auto reads_of = [&](int left) {
        source->left = 0, flag = false;
        auto clip = value(open_clip(source));
        auto reader = clip->reader(clip->info().tracks.at(0).id);
        if (left > 0) {
            source->left = left;
            ReadScope scope(&flag);
            (void)reader->seek(8_s);
        }
        source->left = source->reads = 0, flag = false;
        done(reader->seek(15_s));
        PacketHead head;
        REQUIRE(value(reader->next(head)));
        CHECK((head.keyframe && head.pts == 40_ms * 372));
        return source->reads;
    };
    auto plain = reads_of(0);
    for (int left = 1; left < 9; ++left) {
        INFO("given up at read " << left);
        CHECK(reads_of(left) <= plain);
    }
}
