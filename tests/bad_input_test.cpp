// SPDX-License-Identifier: Apache-2.0
// Bad input is ordinary input: one sentence and a hint, no crash, no hang, bounded memory.
#include <sys/resource.h>

#include "support.h"

using namespace ruedo;
using namespace ruedo::test;

namespace {
/// Opens, walks every track, decodes a little: what a player would do with it.
std::optional<Error> use(std::shared_ptr<ByteSource> source, bool decode = true) {
    auto opened = open_clip(std::move(source));
    if (!opened) return opened.error();
    std::shared_ptr<Clip> clip = std::move(*opened);
    for (auto& track : clip->info().tracks) {
        auto reader = clip->reader(track.id);
        PacketHead head;
        for (int i = 0; i < 3000; ++i) {
            auto more = reader->next(head);
            if (!more) return more.error();
            if (!*more) break;
        }
        if (auto sought = reader->seek(2_s); !sought) return sought.error();
    }
    auto tracks = select_tracks(clip->info(), CodecRegistry::standard());
    if (!tracks) return tracks.error();
    if (!decode) return std::nullopt;
    if (tracks->video) {
        auto pictures = FrameReader::open(clip, *tracks->video, CodecRegistry::standard());
        if (!pictures) return pictures.error();
        for (int i = 0; i < 4; ++i) {
            auto p = (*pictures)->next();
            if (!p) return p.error();
            if (!*p) break;
        }
    }
    if (tracks->audio) {
        auto audio = AudioReader::open(clip, *tracks->audio, CodecRegistry::standard());
        if (!audio) return audio.error();
        for (int i = 0; i < 4; ++i) {
            auto s = (*audio)->next();
            if (!s) return s.error();
            if (!*s) break;
        }
    }
    return std::nullopt;
}
void check_words(const Error& e) {
    CHECK(e.code != ErrorCode::internal);
    CHECK_FALSE(e.sentence.empty());
    CHECK(e.sentence.find('\n') == std::string::npos);
    CHECK_FALSE(e.hint.empty());
}
const std::vector<std::string> varied{"h264_high_aac.mp4",
                                      "frag_no_sidx.mp4",
                                      "vp9_opus.webm",
                                      "ebml_lacing_blockgroups.mkv",
                                      "live_unknown_sizes.webm",
                                      "theora_vorbis.ogv",
                                      "audio_opus.ogg",
                                      "h264_aac.ts",
                                      "mjpeg_pcm.avi",
                                      "audio.flac",
                                      "audio_info.mp3",
                                      "audio_vbr_no_info.mp3",
                                      "hevc.mp4"};
}  // namespace

TEST_CASE("Nearly nothing is refused in words", "[bad-input]") {
    Folder folder;
    auto code = [&](ByteView bytes) {
        put(folder / "x.mp4", bytes);
        auto e = open_clip(folder / "x.mp4");
        REQUIRE_FALSE(e.has_value());
        check_words(e.error());
        return e.error().code;
    };
    CHECK(code({}) == ErrorCode::empty);
    CHECK(code(Bytes{0}) == ErrorCode::not_media);
    std::string text = "This is a letter about the harbour, not a clip at all.\n";
    CHECK(code({reinterpret_cast<const std::uint8_t*>(text.data()), text.size()}) == ErrorCode::not_media);
    CHECK(code(Bytes(4096, 0)) == ErrorCode::not_media);
    CHECK(code(Bytes{0x1A, 0x45, 0xDF, 0xA3}) == ErrorCode::malformed);
    ByteWriter only_mdat;
    only_mdat.u32(16).text("ftyp").text("isom").u32(0).u32(1000).text("mdat").u64(1);
    CHECK(code(only_mdat.bytes) == ErrorCode::truncated);
}

TEST_CASE("What can't be decoded is refused with its own code", "[bad-input]") {
    auto code = [](const std::string& name) {
        auto e = use(value(open_file(fixture(name))));
        REQUIRE(e.has_value());
        check_words(*e);
        return e->code;
    };
    CHECK(code("encrypted_encv.mp4") == ErrorCode::encrypted);
    CHECK(code("codec_xxxx.mp4") == ErrorCode::codec_missing);
    CHECK(code("h264_10bit.mp4") == ErrorCode::depth_unsupported);
    CHECK(code("box_size7.mp4") == ErrorCode::malformed);
}

TEST_CASE("A codec whose adapter is missing is said to be missing", "[bad-input]") {
    Folder empty;
    CodecRegistry none(empty.path);
    auto clip = open("vp9_opus.webm");
    auto tracks = select_tracks(clip->info(), none);
    REQUIRE_FALSE(tracks.has_value());
    CHECK(tracks.error().code == ErrorCode::codec_missing);
    CHECK(tracks.error().sentence.find("VP9") != std::string::npos);
}

TEST_CASE("A clip that was cut short plays as far as it goes, and says so", "[bad-input]") {
    auto clip = open("trunc_moov_first_50.mp4");
    auto found = std::any_of(clip->info().findings.begin(), clip->info().findings.end(),
                             [](auto& f) { return f.code == "truncated"; });
    CHECK(found);
    auto reader = value(FrameReader::open(clip, *clip->info().main(Kind::video), CodecRegistry::standard()));
    int count = 0;
    while (value(reader->next())) ++count;
    CHECK(std::abs(count - 92) <= 3);
    CHECK(std::abs((clip->info().duration - 3067_ms).ns) < (120_ms).ns);
}

TEST_CASE("Cut anywhere, nothing breaks", "[bad-input]") {
    for (auto& name : varied) {
        auto whole = bytes_of(fixture(name));
        std::mt19937 random(7);
        for (int i = 0; i < 60; ++i) {
            auto size = i < 20 ? static_cast<std::size_t>(i * 13 + 1) : random() % whole.size();
            Bytes part(whole.begin(), whole.begin() + static_cast<std::ptrdiff_t>(size));
            INFO(name << " cut at " << size);
            if (auto e = use(memory_source(std::move(part), name), i % 4 == 0)) check_words(*e);
        }
    }
}

TEST_CASE("Changed anywhere, nothing breaks", "[bad-input]") {
    for (auto& name : varied) {
        auto whole = bytes_of(fixture(name));
        std::mt19937 random(8);
        for (int i = 0; i < 150; ++i) {
            auto bytes = whole;
            // Headers are where lies hurt: half of the changes go to the first kilobytes, some to the last.
            for (int k = 0; k < 1 + i % 6; ++k) {
                auto span = i % 2 ? std::min<std::size_t>(bytes.size(), 6000) : bytes.size();
                auto at = i % 5 == 4 ? bytes.size() - 1 - random() % std::min<std::size_t>(bytes.size(), 6000)
                                     : random() % span;
                switch (random() % 4) {
                    case 0:
                        bytes[at] = 0xFF;
                        break;
                    case 1:
                        bytes[at] = 0;
                        break;
                    case 2:
                        for (std::size_t n = at; n < std::min(bytes.size(), at + 4); ++n) bytes[n] = 0xFF;
                        break;
                    default:
                        bytes[at] = static_cast<std::uint8_t>(random());
                }
            }
            INFO(name << " change " << i);
            if (auto e = use(memory_source(std::move(bytes), name), i % 3 == 0)) {
                CHECK_FALSE(e->sentence.empty());
            }
        }
    }
}

TEST_CASE("Sizes that lie and boxes without end cost neither time nor memory", "[bad-input][isobmff]") {
    // A moov of boxes nested ten thousand deep.
    ByteWriter deep;
    deep.u32(16).text("ftyp").text("isom").u32(0);
    constexpr unsigned levels = 10'000;
    for (unsigned i = 0; i < levels; ++i) deep.u32((levels - i) * 8).text(i == 0 ? "moov" : i == 1 ? "trak" : "mdia");
    auto e = use(memory_source(deep.bytes, "deep.mp4"));
    REQUIRE(e.has_value());
    CHECK(e->code == ErrorCode::limit);
    check_words(*e);
    CHECK_FALSE(use(value(open_file(fixture("ebml_nested_10000.webm")))).has_value());

    // Every count in the tables set to the largest there is.
    auto whole = bytes_of(fixture("h264_high_aac.mp4"));
    for (auto table : {"stts", "ctts", "stsz", "stsc", "stco", "stss", "elst", "stsd"}) {
        auto bytes = whole;
        std::string tag = table;
        for (std::size_t i = 0; i + 20 < bytes.size(); ++i)
            if (std::equal(tag.begin(), tag.end(), bytes.begin() + static_cast<std::ptrdiff_t>(i)))
                for (std::size_t k = tag == "stsz" ? 12 : 8; k < (tag == "stsz" ? 16U : 12U); ++k) bytes[i + k] = 0xFF;
        INFO(table);
        if (auto error = use(memory_source(std::move(bytes), table))) CHECK_FALSE(error->sentence.empty());
    }
    rusage usage{};
    getrusage(RUSAGE_SELF, &usage);
#if !defined(__SANITIZE_ADDRESS__) && !defined(__SANITIZE_THREAD__)
    CHECK(usage.ru_maxrss < 512 * 1024);
#endif
}

TEST_CASE("A file that disappears or shrinks while it plays ends in words", "[bad-input]") {
    Folder folder;
    auto path = folder / "going.mp4";
    fs::copy_file(fixture("h264_high_aac.mp4"), path);
    Stage stage;
    stage.controller.open(path, {.start = {Start::How::play, {}}, .loop = {}});
    stage.run(1_s);
    fs::resize_file(path, 60'000);
    stage.run(20_s);
    auto s = stage.now();
    CHECK((s.state.phase == Phase::ended || s.state.phase == Phase::failed));
    if (s.error) check_words(*s.error);

    fs::copy_file(fixture("vp9_opus.webm"), folder / "gone.webm");
    Stage other;
    other.controller.open(folder / "gone.webm", {.start = {Start::How::play, {}}, .loop = {}});
    other.run(1_s);
    fs::remove(folder / "gone.webm");
    CHECK(other.run_until([](auto& snap) { return snap.state.phase == Phase::ended; }));
    CHECK(other.now().counters.presented == 180);  // the open file stays readable
}

TEST_CASE("Times and counts at the ends of what can be written add up to no fault", "[bad-input]") {
    // Runs of samples whose product leaves sixty-four bits, and composition offsets and edits to match.
    auto whole = bytes_of(fixture("h264_high_aac.mp4"));
    std::mt19937 random(107);
    for (int i = 0; i < 80; ++i) {
        auto bytes = whole;
        for (std::string tag : {"stts", "ctts", "elst", "mvhd", "mdhd", "tkhd"})
            for (std::size_t at = 0; at + 40 < bytes.size(); ++at) {
                if (!std::equal(tag.begin(), tag.end(), bytes.begin() + static_cast<std::ptrdiff_t>(at)) ||
                    random() % 3)
                    continue;
                auto from = at + 8 + 4 * (random() % 6);
                for (std::size_t k = from; k < from + 4; ++k) bytes[k] = i % 2 ? 0xFF : 0x7F;
            }
        INFO("change " << i);
        if (auto e = use(memory_source(std::move(bytes), "x.mp4"))) CHECK_FALSE(e->sentence.empty());
    }
    // Cluster and block times of Matroska, the same.
    auto matroska = bytes_of(fixture("ebml_lacing_blockgroups.mkv"));
    for (int i = 0; i < 80; ++i) {
        auto bytes = matroska;
        for (std::size_t at = 0; at + 12 < bytes.size(); ++at)
            if (bytes[at] == 0xE7 && (bytes[at + 1] & 0xF0) == 0x80 && random() % 4 == 0)
                for (std::size_t k = at + 2; k < at + 2 + (bytes[at + 1] & 0x0F) && k < bytes.size(); ++k)
                    bytes[k] = static_cast<std::uint8_t>(i % 2 ? 0xFF : random());
        INFO("change " << i);
        if (auto e = use(memory_source(std::move(bytes), "x.mkv"))) CHECK_FALSE(e->sentence.empty());
    }
}
