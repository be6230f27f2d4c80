// SPDX-License-Identifier: Apache-2.0
#include "pack/pack.h"


#include <set>

#include "support.h"

using namespace ruedo;
using namespace ruedo::test;

namespace {
struct Shop {
    Folder folder;
    PlayerDocument document;
    Shop(std::initializer_list<const char*> files) {
        document.app_name = "Harbour Lights";
        for (auto file : files) {
            fs::copy_file(fixture(file), folder / file);
            SourceSpec s;
            s.name = s.file = file;
            document.sources.push_back(s);
        }
    }
    /// Any executable stands for the player where only its bytes matter.
    Result<Packed> pack_into(const fs::path& out, const PackProgress& progress = {}) const { return pack(document, folder.path, out, "/bin/true", CodecRegistry::standard(), progress); }
};
}  // namespace

TEST_CASE("a packed app holds what it needs, and its list says so") {
    Shop shop{"vp9_opus.webm"};
    auto packed = value(shop.pack_into(shop.folder / "out"));
    CHECK(packed.executable == shop.folder / "out" / "harbour-lights");
    CHECK((fs::status(packed.executable).permissions() & fs::perms::owner_exec) != fs::perms::none);
    std::uint64_t sum = 0;
    std::set<std::string> listed, there;
    for (auto& i : packed.items) {
        CHECK(fs::file_size(packed.folder / i.path) == i.bytes);
        sum += i.bytes;
        listed.insert(i.path);
    }
    for (auto& e : fs::recursive_directory_iterator(packed.folder))
        if (e.is_regular_file()) there.insert(e.path().lexically_relative(packed.folder).string());
    CHECK(listed == there);
    CHECK(sum == packed.bytes);
    CHECK(listed.contains("lib/codec-vpx.so"));
    CHECK(listed.contains("lib/codec-opus.so"));
    CHECK_FALSE(listed.contains("lib/codec-aac-decode.so"));
    auto inside = value(load_document(packed.folder / "player.json"));
    CHECK(inside.sources.at(0).file == "media/vp9_opus.webm");
    CHECK(bytes_of(packed.folder / "media/vp9_opus.webm") == bytes_of(fixture("vp9_opus.webm")));
}

TEST_CASE("the licence follows from the media") {
    CHECK(value(Shop{"vp9_opus.webm"}.pack_into("/tmp/ruedo-licence-a-" + std::to_string(getpid()))).licence == "Apache-2.0 AND BSD-3-Clause");
    CHECK(value(Shop{"h264_high_aac.mp4"}.pack_into("/tmp/ruedo-licence-b-" + std::to_string(getpid()))).licence.find("GPL-3.0-or-later") != std::string::npos);
    fs::remove_all("/tmp/ruedo-licence-a-" + std::to_string(getpid()));
    fs::remove_all("/tmp/ruedo-licence-b-" + std::to_string(getpid()));
}

TEST_CASE("packing is whole or not at all") {
    Shop shop{"vp9_opus.webm", "h264_high_aac.mp4"};
    auto out = shop.folder / "out";
    auto before = std::distance(fs::directory_iterator(shop.folder.path), {});
    for (std::uint64_t stop_at : {1ULL, 60'000ULL, 200'000ULL, 300'000ULL}) {
        auto result = shop.pack_into(out, [&](std::uint64_t done_bytes, std::uint64_t) { return done_bytes < stop_at; });
        REQUIRE_FALSE(result.has_value());
        CHECK(result.error().code == Code::cancelled);
        CHECK(std::distance(fs::directory_iterator(shop.folder.path), {}) == before);
    }
    fs::create_directory(out);
    CHECK(shop.pack_into(out).error().code == Code::exists);
    CHECK(fs::is_empty(out));
    CHECK(shop.pack_into(shop.folder.path / "no" / "such" / "place").error().code == Code::not_found);
    CHECK_FALSE(shop.pack_into("/proc/ruedo-out").has_value());
    struct { PlayerDocument document; fs::path from; Result<Packed> pack_into(const fs::path& to) const { return pack(document, from, to, "/bin/true", CodecRegistry::standard()); } } lost{shop.document, shop.folder.path};
    lost.document.sources[1].file = "gone.mp4";
    CHECK(lost.pack_into(shop.folder / "other").error().code == Code::not_found);
    CHECK_FALSE(fs::exists(shop.folder / "other"));
    lost.document.sources.clear();
    CHECK(lost.pack_into(shop.folder / "other").error().code == Code::empty);
}

TEST_CASE("two media of one name both go in, one used twice goes in once") {
    Shop shop{"vp9_opus.webm"};
    fs::create_directory(shop.folder / "b");
    fs::copy_file(fixture("vp8_vorbis.webm"), shop.folder / "b" / "vp9_opus.webm");
    auto again = shop.document.sources[0], other = again;
    other.file = "b/vp9_opus.webm";
    shop.document.sources = {again, other, again};
    auto packed = value(shop.pack_into(shop.folder / "out"));
    auto inside = value(load_document(packed.folder / "player.json"));
    CHECK(inside.sources[0].file == inside.sources[2].file);
    CHECK(inside.sources[0].file != inside.sources[1].file);
    CHECK(bytes_of(packed.folder / inside.sources[1].file) == bytes_of(fixture("vp8_vorbis.webm")));
    CHECK(std::distance(fs::directory_iterator(packed.folder / "media"), {}) == 2);
}
