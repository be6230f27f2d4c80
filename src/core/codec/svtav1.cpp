// SPDX-License-Identifier: Apache-2.0
// AV1 encoding through SVT-AV1, which runs in a process of its own (svtav1_process.cpp). Every packet is a temporal
// unit with one shown picture, so packets come in the order of presentation.
#include <dlfcn.h>
#include <fcntl.h>
#include <poll.h>
#include <spawn.h>
#include <sys/wait.h>

#include <algorithm>
#include <csignal>
#include <deque>

#include "codec/codec.h"
#include "codec/svtav1_wire.h"

extern char** environ;

namespace ruedo {
namespace {
using namespace svtav1;

class Encoder final : public VideoEncoder {
  public:
    static Result<std::unique_ptr<VideoEncoder>> make(Codec, const VideoEncodeOptions& o) {
        if (o.width < 64 || o.height < 64 || o.width > 8192 || o.height > 4352)
            return fail(ErrorCode::limit, "The AV1 encoder takes sizes from 64 × 64 to 8192 × 4352.",
                        "Choose another size.");
        if (o.pass) return fail(ErrorCode::limit, "The AV1 encoder here works in one pass.", "Ask for one pass.");
        auto e = std::make_unique<Encoder>();
        e->width_ = o.width, e->height_ = o.height, e->go_on_ = o.go_on;
        RUEDO_TRY_DO(e->start());
        auto colour = o.colour.resolved(o.height);
        Settings s{};
        // The library takes even sizes only.
        s.width = o.width + o.width % 2, s.height = o.height + o.height % 2;
        s.keyframe_every = o.keyframe_every, s.effort = o.effort;
        s.rate_num = static_cast<int>(o.rate.num), s.rate_den = static_cast<int>(o.rate.den);
        if (o.control == VideoEncodeOptions::Control::quality)
            s.quality = o.quality;
        else
            s.bitrate = std::max(10'000U, o.bitrate);
        s.matrix = colour.matrix_code(), s.primaries = colour.primaries, s.transfer = colour.transfer;
        s.full_range = colour.range == Colour::Range::full;
        e->put(&s, sizeof s);
        std::vector<Encoded> header;
        e->times_.push_back({});
        RUEDO_TRY_DO(e->exchange(header));
        e->times_.clear();
        if (header.empty()) return broke_off();
        e->config_ = std::move(header.front().data);
        return e;
    }
    ~Encoder() override {
        if (socket_ >= 0) ::close(socket_);
        if (process_ <= 0) return;
        ::kill(process_, SIGKILL);
        while (::waitpid(process_, nullptr, 0) < 0 && errno == EINTR) continue;
    }
    Status encode(const Frame& p, std::vector<Encoded>& out) override {
        auto command = Command::picture;
        put(&command, sizeof command);
        for (std::size_t plane = 0; plane < 3; ++plane) {
            auto half = plane ? 1 : 0;
            int across = (width_ + half) >> half, rows = (height_ + half) >> half;
            auto put_row = [&](int y) {
                auto* row = p.plane[plane] + std::ptrdiff_t{y} * p.stride[plane];
                put(row, static_cast<std::size_t>(across));
                if (!half && width_ % 2) put(row + across - 1, 1);
            };
            for (int y = 0; y < rows; ++y) put_row(y);
            if (!half && height_ % 2) put_row(rows - 1);
        }
        times_.push_back(p.pts);
        return exchange(out);
    }
    Status drain(std::vector<Encoded>& out) override {
        auto command = Command::end;
        put(&command, sizeof command);
        return exchange(out);
    }
    Bytes config() const override { return config_; }
    Crop padding() const override { return {0, 0, width_ % 2, height_ % 2}; }

  private:
    Status start() {
        auto failed = fail(ErrorCode::internal, "The AV1 encoder could not be started.", "Install Ruedo again.");
        // The program lies beside this module.
        static const char here = 0;
        Dl_info module{};
        if (::dladdr(&here, &module) == 0) return failed;
        auto program = std::filesystem::path(module.dli_fname).replace_filename("encode-av1").string();
        std::array<int, 2> ends{};
        if (::socketpair(AF_UNIX, SOCK_STREAM | SOCK_CLOEXEC, 0, ends.data()) != 0) return failed;
        socket_ = ends[0];
        posix_spawn_file_actions_t files;
        posix_spawn_file_actions_init(&files);
        posix_spawn_file_actions_adddup2(&files, ends[1], STDIN_FILENO);
        posix_spawn_file_actions_addopen(&files, STDOUT_FILENO, "/dev/null", O_WRONLY, 0);
        posix_spawn_file_actions_addopen(&files, STDERR_FILENO, "/dev/null", O_WRONLY, 0);
        // Signals that a terminal sends to the whole process group are handled by the parent.
        posix_spawnattr_t attributes;
        posix_spawnattr_init(&attributes);
        posix_spawnattr_setflags(&attributes, POSIX_SPAWN_SETPGROUP);
        std::array<char*, 2> words{program.data(), nullptr};
        bool spawned = ::posix_spawn(&process_, program.c_str(), &files, &attributes, words.data(), environ) == 0;
        posix_spawn_file_actions_destroy(&files), posix_spawnattr_destroy(&attributes);
        ::close(ends[1]);
        if (spawned) return {};
        process_ = 0;
        return failed;
    }
    static std::unexpected<Error> broke_off() {
        return fail(ErrorCode::internal, "The AV1 encoder broke off.", "Try again, or choose another codec.");
    }
    void put(const void* data, std::size_t size) {
        auto* bytes = static_cast<const std::uint8_t*>(data);
        going_.insert(going_.end(), bytes, bytes + size);
    }
    /// Sends what was put, and takes the answer. Somebody may no longer want it meanwhile.
    Status exchange(std::vector<Encoded>& out) {
        for (std::size_t sent = 0; sent < going_.size();) {
            RUEDO_TRY_DO(wait(POLLOUT));
            auto n = ::send(socket_, going_.data() + sent, going_.size() - sent, MSG_NOSIGNAL | MSG_DONTWAIT);
            if (n < 0 && errno != EAGAIN && errno != EINTR) return broke_off();
            if (n > 0) sent += static_cast<std::size_t>(n);
        }
        going_.clear();
        Answer answer{};
        RUEDO_TRY_DO(take(&answer, sizeof answer));
        for (std::uint32_t i = 0; i < answer.packets; ++i) {
            PacketHeader header{};
            RUEDO_TRY_DO(take(&header, sizeof header));
            auto at = static_cast<std::size_t>(header.number) - forgotten_;
            if (header.number < 0 || at >= times_.size() || header.bytes > (256U << 20)) return broke_off();
            Encoded e{Bytes(header.bytes), times_[at], times_[at], header.keyframe};
            RUEDO_TRY_DO(take(e.data.data(), e.data.size()));
            out.push_back(std::move(e));
        }
        while (times_.size() > 512) times_.pop_front(), ++forgotten_;
        switch (answer.what) {
            case Answer::What::fine:
                return {};
            case Answer::What::refused:
                return fail(ErrorCode::limit, "The AV1 encoder refused these settings.",
                            "Choose another size or rate.");
            case Answer::What::failed:
                return fail(ErrorCode::internal, "The AV1 encoder failed on a picture.");
            case Answer::What::not_started:
            case Answer::What::no_header:
                break;
        }
        return broke_off();
    }
    Status take(void* data, std::size_t size) {
        for (auto* p = static_cast<std::uint8_t*>(data); size > 0;) {
            RUEDO_TRY_DO(wait(POLLIN));
            auto n = ::recv(socket_, p, size, MSG_DONTWAIT);
            if (n == 0 || (n < 0 && errno != EAGAIN && errno != EINTR)) return broke_off();
            if (n > 0) p += n, size -= static_cast<std::size_t>(n);
        }
        return {};
    }
    Status wait(short until) const {
        for (;;) {
            pollfd p{socket_, until, 0};
            if (::poll(&p, 1, 50) > 0) return {};
            if (go_on_) RUEDO_TRY_DO(go_on_());
        }
    }
    int socket_ = -1, width_ = 0, height_ = 0;
    pid_t process_ = 0;
    std::function<Status()> go_on_;
    Bytes going_, config_;
    std::deque<Time> times_;
    std::size_t forgotten_ = 0;
};

}  // namespace
}  // namespace ruedo

RUEDO_CODEC_MODULE {
    using namespace ruedo;
    static const CodecModule module{.name = "svtav1",
                                    .library = "SVT-AV1",
                                    .licence = "BSD-3-Clause-Clear",
                                    .package = "libsvtav1enc1",
                                    .decodes = {},
                                    .encodes = {Codec::av1},
                                    .video_encoder = &Encoder::make};
    return &module;
}
