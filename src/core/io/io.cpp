// SPDX-License-Identifier: Apache-2.0
#include "io/io.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <signal.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <atomic>
#include <cerrno>
#include <charconv>
#include <cstdio>
#include <mutex>
#include <numeric>
#include <set>

#include "io/read_files.h"

namespace ruedo {
namespace fs = std::filesystem;
namespace {

class FileSource final : public ByteSource {
  public:
    FileSource(int fd, const struct stat& st, std::string name)
        : fd_(fd), size_(static_cast<std::uint64_t>(st.st_size)), changed_(st.st_mtim), name_(std::move(name)) {}
    ~FileSource() override { ::close(fd_); }
    Result<std::size_t> read_at(std::uint64_t offset, std::span<std::uint8_t> into) override {
        std::size_t got = 0;
        while (got < into.size() && offset + got < INT64_MAX) {
            if (ReadScope::given_up())
                return std::unexpected(ReadScope::stopped(fmt::format("“{}” was still being read", name_)));
            auto wanted = std::min<std::size_t>(into.size() - got, 1 << 20);
            auto n = ::pread(fd_, into.data() + got, wanted, static_cast<off_t>(offset + got));
            if (n < 0 && errno == EINTR) continue;
            if (n < 0) return std::unexpected(errno_error(errno, fmt::format("Reading “{}”", name_)));
            if (n == 0) break;
            got += static_cast<std::size_t>(n);
        }
        return got;
    }
    std::optional<std::uint64_t> size() const override { return size_; }
    bool altered() const override {
        struct stat st{};
        if (::fstat(fd_, &st) != 0) return false;
        return static_cast<std::uint64_t>(st.st_size) != size_ || st.st_mtim.tv_sec != changed_.tv_sec ||
               st.st_mtim.tv_nsec != changed_.tv_nsec;
    }
    const std::string& name() const override { return name_; }

  private:
    int fd_;
    std::uint64_t size_;
    timespec changed_;
    std::string name_;
};

class MemorySource final : public ByteSource {
  public:
    MemorySource(Bytes bytes, std::string name) : bytes_(std::move(bytes)), name_(std::move(name)) {}
    Result<std::size_t> read_at(std::uint64_t offset, std::span<std::uint8_t> into) override {
        if (offset >= bytes_.size()) return 0;
        auto n = std::min<std::uint64_t>(into.size(), bytes_.size() - offset);
        std::copy_n(bytes_.begin() + static_cast<std::ptrdiff_t>(offset), n, into.begin());
        return n;
    }
    std::optional<std::uint64_t> size() const override { return bytes_.size(); }
    const std::string& name() const override { return name_; }

  private:
    Bytes bytes_;
    std::string name_;
};

/// Levenshtein distance; names are short.
std::size_t distance(const std::string& a, const std::string& b) {
    std::vector<std::size_t> row(b.size() + 1);
    std::iota(row.begin(), row.end(), 0);
    for (std::size_t i = 1; i <= a.size(); ++i) {
        auto diagonal = row[0];
        row[0] = i;
        for (std::size_t j = 1; j <= b.size(); ++j) {
            auto above = row[j];
            row[j] = std::min({above + 1, row[j - 1] + 1, diagonal + (a[i - 1] == b[j - 1] ? 0 : 1)});
            diagonal = above;
        }
    }
    return row.back();
}

}  // namespace

namespace {
thread_local const ReadScope* innermost = nullptr;
}
ReadScope::ReadScope(const std::atomic<bool>* flag, bool buffered_only, Time deadline)
    : flag_(flag), buffered_only_(buffered_only), deadline_(deadline), outer_(innermost) {
    innermost = this;
}
ReadScope::~ReadScope() { innermost = outer_; }
bool ReadScope::given_up() {
    for (auto* s = innermost; s; s = s->outer_)
        if ((s->flag_ && *s->flag_) || (s->deadline_ != Time::max() && monotonic_now() >= s->deadline_)) return true;
    return false;
}
Error ReadScope::stopped(std::string_view subject) {
    // Being told to stop counts before being late.
    for (auto* s = innermost; s; s = s->outer_)
        if (s->flag_ && *s->flag_) return Error{ErrorCode::cancelled, "Reading was given up.", "Run it again."};
    return Error{ErrorCode::timeout, fmt::format("There was no more time: {}.", subject),
                 "Check the source, or allow more time for opening."};
}
bool ReadScope::only_buffered() {
    for (auto* s = innermost; s; s = s->outer_)
        if (s->buffered_only_) return true;
    return false;
}

const std::atomic<bool>* ReadScope::flag() {
    for (auto* s = innermost; s; s = s->outer_)
        if (s->flag_) return s->flag_;
    return nullptr;
}

namespace {
thread_local ReadBudget* innermost_budget = nullptr;
}
ReadBudget::ReadBudget(std::uint64_t bytes) : bytes_(bytes), left_(bytes), outer_(innermost_budget) {
    innermost_budget = this;
}
ReadBudget::~ReadBudget() { innermost_budget = outer_; }
bool ReadBudget::spend(std::uint64_t bytes) {
    bool enough = true;
    for (auto* b = innermost_budget; b; b = b->outer_) {
        enough = enough && b->left_ >= bytes;
        b->left_ -= std::min(b->left_, bytes);
    }
    return enough;
}

std::optional<std::string> closest(const std::string& wanted, std::span<const std::string_view> names) {
    std::optional<std::string> best;
    auto least = std::max<std::size_t>(2, wanted.size() / 3) + 1;
    for (auto name : names)
        if (auto d = distance(wanted, std::string(name)); d < least) least = d, best = name;
    return best;
}

std::optional<fs::path> nearest_name(const fs::path& path) {
    auto folder = path.has_parent_path() ? path.parent_path() : fs::path(".");
    auto wanted = path.filename().string();
    std::error_code ec;
    std::optional<fs::path> best;
    std::size_t best_distance = std::max<std::size_t>(2, wanted.size() / 3) + 1;
    std::size_t seen = 0;
    for (fs::directory_iterator it(folder, ec), end; !ec && it != end && seen < 5000; it.increment(ec), ++seen) {
        auto d = distance(wanted, it->path().filename().string());
        if (d < best_distance) best_distance = d, best = it->path();
    }
    return best;
}

Result<std::shared_ptr<ByteSource>> open_file(const fs::path& path) {
    auto name = path.filename().string();
    int fd = ::open(path.c_str(), O_RDONLY | O_CLOEXEC | O_NONBLOCK);
    if (fd < 0) {
        auto error = errno_error(errno, fmt::format("Opening “{}”", name));
        if (error.code == ErrorCode::not_found) {
            std::error_code ec;
            error.sentence = fmt::format("There is no file “{}”.", path.string());
            if (fs::is_symlink(path, ec))
                error.sentence = fmt::format("“{}” is a link to “{}”, which is not there.", path.string(),
                                             fs::read_symlink(path, ec).string());
            else if (auto near = nearest_name(path))
                error.hint = fmt::format("Did you mean “{}”?", near->filename().string());
        }
        return std::unexpected(std::move(error));
    }
    struct stat st{};
    if (::fstat(fd, &st) != 0 || !S_ISREG(st.st_mode)) {
        bool folder = S_ISDIR(st.st_mode);
        ::close(fd);
        return fail(ErrorCode::not_media,
                    fmt::format("“{}” is {}, not a file.", name, folder ? "a folder" : "a device"),
                    "Choose a media file.");
    }
    if (st.st_size == 0) {
        ::close(fd);
        return fail(ErrorCode::empty, fmt::format("“{}” is empty: it holds no bytes at all.", name),
                    "Copy or export the clip again.");
    }
    ReadFiles::of_process().add(st);
    return std::make_shared<FileSource>(fd, st, std::move(name));
}

std::shared_ptr<ByteSource> memory_source(Bytes bytes, std::string name) {
    return std::make_shared<MemorySource>(std::move(bytes), std::move(name));
}

SourceReader::SourceReader(std::shared_ptr<ByteSource> source, std::size_t buffer)
    : source_(std::move(source)), size_(source_->size().value_or(UINT64_MAX)), buffer_(buffer) {}

Result<ByteView> SourceReader::view(std::uint64_t offset, std::size_t n) {
    if (n > buffer_.size()) buffer_.resize(n), filled_ = 0;
    bool inside = offset >= start_ && offset - start_ <= filled_ && n <= filled_ - (offset - start_);
    if (!inside && offset < size_) {
        // Over a network only what is asked for is waited for; the source keeps what arrives with it.
        auto wanted =
            source_->cheap_to_seek() ? buffer_.size() : std::min(buffer_.size(), std::max<std::size_t>(n, 2048));
        filled_ = 0;
        auto got = source_->read_at(offset, std::span(buffer_).first(wanted));
        if (!got && n < wanted && ReadScope::only_buffered())
            got = source_->read_at(offset, std::span(buffer_).first(n));
        if (!got) return std::unexpected(got.error());
        filled_ = *got;
        start_ = offset;
    }
    if (offset < start_ || offset - start_ >= filled_) return ByteView{};
    auto at = static_cast<std::size_t>(offset - start_);
    return ByteView(buffer_).subspan(at, std::min(n, filled_ - at));
}

Status SourceReader::read(std::uint64_t offset, std::uint64_t n, Bytes& out) {
    if (n > size_ || offset > size_ - n)
        return fail(ErrorCode::truncated, fmt::format("“{}” ends before byte {}.", source_->name(), offset + n),
                    "The file was cut short; copy it again.");
    out.resize(n);
    if (n == 0) return {};
    // Small sequential reads are served from larger ones.
    bool reads_on = offset >= read_to_ && offset - read_to_ < buffer_.size() / 2;
    read_to_ = offset + n;
    if (reads_on && n <= buffer_.size() / 4 && source_->cheap_to_seek())
        if (auto here = view(offset, n); here && here->size() == n) {
            std::memcpy(out.data(), here->data(), n);
            return {};
        }
    std::size_t got = 0;
    if (offset >= start_ && offset - start_ < filled_) {
        got = std::min<std::size_t>(n, filled_ - static_cast<std::size_t>(offset - start_));
        std::memcpy(out.data(), buffer_.data() + (offset - start_), got);
    }
    if (got < n) {
        RUEDO_TRY(auto more, source_->read_at(offset + got, std::span(out).subspan(got)));
        if (got + more < n)
            return fail(ErrorCode::truncated, fmt::format("“{}” became shorter while it was read.", source_->name()),
                        "Open it again once it is complete.");
    }
    return {};
}

Result<Bytes> read_file(const fs::path& path, std::uint64_t limit) {
    RUEDO_TRY(auto source, open_file(path));
    auto size = source->size().value_or(0);
    if (size > limit)
        return fail(ErrorCode::limit, fmt::format("“{}” is too large to be read as a whole.", path.filename().string()),
                    "Is it the right file?");
    SourceReader reader(source);
    Bytes bytes;
    RUEDO_TRY_DO(reader.read(0, size, bytes));
    return bytes;
}

}  // namespace ruedo
