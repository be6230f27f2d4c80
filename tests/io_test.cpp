// SPDX-License-Identifier: Apache-2.0
#include <sys/stat.h>
#include <sys/wait.h>

#include "support.h"

using namespace ruedo;
using namespace ruedo::test;

TEST_CASE("A file is written whole or not at all", "[io]") {
    Folder folder;
    auto path = folder / "clip.bin";
    Bytes data{1, 2, 3};
    {
        auto writer = value(FileWriter::create(path));
        done(writer.write(data));
        CHECK_FALSE(fs::exists(path));
    }
    CHECK(fs::is_empty(folder.path));  // given up: nothing stays, under no name
    auto writer = value(FileWriter::create(path));
    done(writer.write(data));
    done(writer.commit());
    CHECK(bytes_of(path) == data);
    CHECK(FileWriter::create(path).error().code == ErrorCode::exists);
    CHECK(write_file(path, Bytes{9}, Replace::nothing).error().code == ErrorCode::exists);
    CHECK(bytes_of(path) == data);
}

TEST_CASE("What appears in the place meanwhile is not replaced", "[io]") {
    Folder folder;
    auto path = folder / "clip.bin";
    auto writer = value(FileWriter::create(path));
    done(writer.write(Bytes{1}));
    put(path, Bytes{7, 7});
    CHECK(writer.commit().error().code == ErrorCode::exists);
    CHECK(bytes_of(path) == Bytes{7, 7});
}

TEST_CASE("A gap moves what follows, whatever the sizes", "[io]") {
    Folder folder;
    std::mt19937 random(3);
    for (std::size_t size : {1UL, 1000UL, (1UL << 20) - 1, (1UL << 20) + 17, 3UL << 20}) {
        Bytes data(size);
        for (auto& b : data) b = static_cast<std::uint8_t>(random());
        auto path = folder / std::to_string(size);
        auto writer = value(FileWriter::create(path));
        done(writer.write(data));
        done(writer.insert_gap(0, 1234));
        done(writer.write_at(0, Bytes(1234, 0xAB)));
        done(writer.commit());
        auto got = bytes_of(path);
        REQUIRE(got.size() == size + 1234);
        CHECK(std::equal(data.begin(), data.end(), got.begin() + 1234));
    }
}

TEST_CASE("A scratch folder goes with whoever made it, or with the next one where that was killed", "[io]") {
    Folder folder;
    std::string before = std::getenv("TMPDIR") ? std::getenv("TMPDIR") : "";
    ::setenv("TMPDIR", folder.path.c_str(), 1);
    auto left = [&] { return std::distance(fs::directory_iterator(folder.path), fs::directory_iterator{}); };
    for (int killed = 0; killed < 3; ++killed) {
        auto child = ::fork();
        if (child == 0) {
            ScratchFolder scratch("of one killed");
            (void)scratch.make();
            std::ofstream(scratch.path() / "file") << "something";
            ::kill(::getpid(), SIGKILL);
        }
        int status = 0;
        ::waitpid(child, &status, 0);
        CHECK(WIFSIGNALED(status));
    }
    CHECK(left() == 1);  // each removed the one before
    {
        ScratchFolder one("a"), other("a");
        done(one.make());
        done(other.make());
        done(one.make());  // again: it is there
        put(one.path() / "file", Bytes{1});
        CHECK(left() == 2);
        CHECK((fs::status(one.path()).permissions() & fs::perms(0077)) == fs::perms::none);
        // Somebody's link under the name is not followed.
        ScratchFolder led("a");
        fs::create_directory_symlink(folder.path, led.path());
        CHECK_FALSE(led.make());
        fs::remove(led.path());
    }
    CHECK(left() == 0);
    // Where nothing can be, it says where that is.
    ::setenv("TMPDIR", (folder / "nowhere").c_str(), 1);
    auto refused = ScratchFolder("b").make();
    if (before.empty())
        ::unsetenv("TMPDIR");
    else
        ::setenv("TMPDIR", before.c_str(), 1);
    REQUIRE_FALSE(refused);
    CHECK(refused.error().sentence.find("nowhere") != std::string::npos);
}

TEST_CASE("A disk that is full or closed says so and leaves nothing", "[io]") {
    CHECK(FileWriter::create("/proc/ruedo-test").error().code != ErrorCode::internal);
    auto full = FileWriter::create("/dev/full/x");
    CHECK_FALSE(full.has_value());
    if (fs::exists("/dev/full")) {
        // A device that takes nothing stands for a full disk.
        auto error = errno_error(ENOSPC, "Writing");
        CHECK(error.code == ErrorCode::disk_full);
        CHECK(errno_error(EROFS, "Writing").code == ErrorCode::read_only);
    }
}

TEST_CASE("A name that is not there leads to the nearest that is", "[io]") {
    Folder folder;
    put(folder / "lantern.webm", Bytes{1});
    auto missing = open_file(folder / "lantren.webm");
    REQUIRE_FALSE(missing.has_value());
    CHECK(missing.error().code == ErrorCode::not_found);
    CHECK(missing.error().hint.find("lantern.webm") != std::string::npos);
    CHECK_FALSE(nearest_name(folder / "something-else-entirely.mp4").has_value());
    CHECK(open_file(folder.path).error().code == ErrorCode::not_media);
    put(folder / "empty.mp4", {});
    CHECK(open_file(folder / "empty.mp4").error().code == ErrorCode::empty);
}

TEST_CASE("A reader gives the same bytes whatever the steps", "[io][seek]") {
    Bytes data(100'000);
    std::mt19937 random(4);
    for (auto& b : data) b = static_cast<std::uint8_t>(random());
    SourceReader reader(memory_source(data, "x"), 4096);
    for (int i = 0; i < 2000; ++i) {
        auto at = random() % data.size(), n = random() % 5000;
        auto got = value(reader.view(at, n));
        auto expected = std::min<std::size_t>(n, data.size() - at);
        REQUIRE(got.size() == expected);
        REQUIRE(std::equal(got.begin(), got.end(), data.begin() + static_cast<std::ptrdiff_t>(at)));
        Bytes out;
        auto read = reader.read(at, n, out);
        if (at + n <= data.size())
            CHECK((read && std::equal(out.begin(), out.end(), data.begin() + static_cast<std::ptrdiff_t>(at))));
        else
            CHECK(read.error().code == ErrorCode::truncated);
    }
}

TEST_CASE("Scopes around a read add up: any flag and any deadline among them ends it, with the right code", "[io]") {
    std::mt19937 random(104);
    Folder folder;
    put(folder / "x", Bytes(100'000, 7));
    auto source = value(open_file(folder / "x"));
    Bytes some(1000);
    for (int i = 0; i < 200; ++i) {
        std::array<std::atomic<bool>, 3> flags{};
        std::array<Time, 3> deadlines{Time::max(), Time::max(), Time::max()};
        bool cancelled = false, late = false;
        for (std::size_t k = 0; k < 3; ++k) {
            if (random() % 5 == 0) flags[k] = cancelled = true;
            if (random() % 5 == 0)
                deadlines[k] = monotonic_now() - 1_ms, late = true;
            else if (random() % 3 == 0)
                deadlines[k] = monotonic_now() + 3600_s;
        }
        ReadScope outer(&flags[0], false, deadlines[0]),
            middle(random() % 2 ? &flags[1] : nullptr, random() % 2, deadlines[1]);
        cancelled = flags[0] || (ReadScope::given_up() && !late && flags[1]) || flags[2];
        ReadScope inner(&flags[2], false, deadlines[2]);
        auto got = source->read_at(random() % 90'000, some);
        CHECK(got.has_value() == !ReadScope::given_up());
        if (!got) {
            CHECK((got.error().code == ErrorCode::cancelled || got.error().code == ErrorCode::timeout));
            if (flags[0] || flags[2])
                CHECK(got.error().code == ErrorCode::cancelled);
            else if (!flags[1])
                CHECK(got.error().code == ErrorCode::timeout);
            CHECK_FALSE(got.error().sentence.empty());
        }
    }
    // And nothing of it remains.
    CHECK(source->read_at(0, some).has_value());
    CHECK_FALSE(ReadScope::only_buffered());
}

TEST_CASE("A file says whether it is still the one that was opened", "[io]") {
    Folder folder;
    put(folder / "x", Bytes(1000, 1));
    auto source = value(open_file(folder / "x"));
    CHECK_FALSE(source->altered());
    {
        std::ofstream(folder / "x", std::ios::app) << "more";
    }
    CHECK(source->altered());
    source = value(open_file(folder / "x"));
    CHECK_FALSE(source->altered());
    fs::resize_file(folder / "x", 10);
    CHECK(source->altered());
    // Another file under the same name leaves the open one as it is.
    source = value(open_file(folder / "x"));
    put(folder / "x", Bytes(5, 2));
    CHECK_FALSE(source->altered());
}

TEST_CASE("Slips are guessed among names, and what is no slip is not", "[io]") {
    constexpr std::array<std::string_view, 4> names{"inspect", "frames", "play", "pack"};
    std::mt19937 random(105);
    for (auto name : names)
        for (int i = 0; i < 50; ++i) {
            std::string slip(name);
            switch (random() % 3) {
                case 0:
                    slip.erase(random() % slip.size(), 1);
                    break;
                case 1:
                    slip.insert(random() % slip.size(), 1, static_cast<char>('a' + random() % 26));
                    break;
                default:
                    std::swap(slip[0], slip[1]);
            }
            INFO(slip);
            CHECK(closest(slip, names).has_value());
        }
    CHECK(closest("inspekt", names) == "inspect");
    CHECK_FALSE(closest("something-else", names).has_value());
}
