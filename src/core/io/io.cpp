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

/// Files that were opened for reading, by device and inode.
class ReadFiles {
  public:
    void add(const struct stat& st) {
        std::lock_guard lock(mutex_);
        all_.emplace(st.st_dev, st.st_ino);
    }
    void clear() {
        std::lock_guard lock(mutex_);
        all_.clear();
    }
    void forget(const struct stat& st) {
        std::lock_guard lock(mutex_);
        all_.erase({st.st_dev, st.st_ino});
    }
    bool holds(const fs::path& path) {
        struct stat st{};
        if (::stat(path.c_str(), &st) != 0) return false;
        std::lock_guard lock(mutex_);
        return all_.contains({st.st_dev, st.st_ino});
    }
    static ReadFiles& of_process() {
        static auto& files = *new ReadFiles;  // threads may read until the end
        return files;
    }

  private:
    std::mutex mutex_;
    std::set<std::pair<dev_t, ino_t>> all_;
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
        if (s->flag_ && *s->flag_) return Error{Code::cancelled, "Reading was given up.", "Run it again."};
    return Error{Code::timeout, fmt::format("There was no more time: {}.", subject),
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
        if (error.code == Code::not_found) {
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
        return fail(Code::not_media, fmt::format("“{}” is {}, not a file.", name, folder ? "a folder" : "a device"),
                    "Choose a media file.");
    }
    if (st.st_size == 0) {
        ::close(fd);
        return fail(Code::empty, fmt::format("“{}” is empty: it holds no bytes at all.", name),
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
        // Over a network only what is asked for is waited for; the source keeps what comes with it.
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

Outcome SourceReader::read(std::uint64_t offset, std::uint64_t n, Bytes& out) {
    if (n > size_ || offset > size_ - n)
        return fail(Code::truncated, fmt::format("“{}” ends before byte {}.", source_->name(), offset + n),
                    "The file was cut short; copy it again.");
    out.resize(n);
    if (n == 0) return {};
    // Whoever reads on in small steps is given them out of larger ones.
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
        TRY(auto more, source_->read_at(offset + got, std::span(out).subspan(got)));
        if (got + more < n)
            return fail(Code::truncated, fmt::format("“{}” became shorter while it was read.", source_->name()),
                        "Open it again once it is complete.");
    }
    return {};
}

std::string temporary_name(const std::string& name) {
    static std::atomic<unsigned> counter = 0;
    return fmt::format(".{}.{}-{}.part", name, ::getpid(), counter++);
}

namespace {
/// The process that a temporary name belongs to; 0 for any other name.
pid_t owner_of(const std::string& file) {
    constexpr std::string_view tail = ".part";
    if (!file.starts_with('.') || !file.ends_with(tail)) return 0;
    auto stem = std::string_view(file).substr(0, file.size() - tail.size());
    auto dash = stem.rfind('-'), dot = stem.rfind('.');
    if (dash == std::string_view::npos || dot == std::string_view::npos || dot == 0 || dot > dash) return 0;
    auto number = [](std::string_view s) {
        int v = 0;
        auto [end, ec] = std::from_chars(s.data(), s.data() + s.size(), v);
        return ec == std::errc() && end == s.data() + s.size() ? v : -1;
    };
    return number(stem.substr(dash + 1)) < 0 ? 0 : std::max(0, number(stem.substr(dot + 1, dash - dot - 1)));
}
}  // namespace

void clear_remains(const fs::path& folder) {
    std::error_code ec;
    std::vector<fs::path> dead;
    std::size_t seen = 0;
    for (fs::directory_iterator it(folder.empty() ? fs::path(".") : folder, ec), end; !ec && it != end && seen < 5000;
         it.increment(ec), ++seen) {
        auto owner = owner_of(it->path().filename().string());
        if (owner > 0 && ::kill(owner, 0) != 0 && errno == ESRCH) dead.push_back(it->path());
    }
    for (auto& path : dead) fs::remove_all(path, ec);
}

ScratchFolder::ScratchFolder(const std::string& name) {
    const char* said = std::getenv("TMPDIR");
    path_ = fs::path(said && *said ? said : "/tmp") / temporary_name(name);
}
ScratchFolder::~ScratchFolder() {
    std::error_code ec;
    fs::remove_all(path_, ec);
}
Outcome ScratchFolder::make() const {
    clear_remains(path_.parent_path());
    if (::mkdir(path_.c_str(), 0700) == 0) return {};
    auto why = errno;
    // Where anybody may write, what stands under its name already may be somebody else's, or lead elsewhere.
    struct stat there{};
    if (why == EEXIST && ::lstat(path_.c_str(), &there) == 0 && S_ISDIR(there.st_mode) && there.st_uid == ::geteuid())
        return {};
    return std::unexpected(errno_error(why, "Making a folder in “" + path_.parent_path().string() + "”"));
}

Outcome move_into_place(const fs::path& temporary, const fs::path& place) {
    // A plain rename would replace what has appeared there meanwhile.
    if (::renameat2(AT_FDCWD, temporary.c_str(), AT_FDCWD, place.c_str(), RENAME_NOREPLACE) == 0) return {};
    if (errno == EINVAL || errno == ENOSYS || errno == ENOTSUP) {
        struct stat st{};
        if (::lstat(place.c_str(), &st) == 0)
            errno = EEXIST;
        else if (::rename(temporary.c_str(), place.c_str()) == 0)
            return {};
    }
    return std::unexpected(errno_error(errno, fmt::format("Writing “{}”", place.string())));
}

Outcome look_at_folder_place(const fs::path& place, bool replace, const std::string& marker) {
    std::error_code ec;
    auto there = fs::symlink_status(place, ec);
    if (!fs::exists(there)) return {};
    if (!replace)
        return fail(Code::exists, fmt::format("“{}” is already there.", place.string()),
                    "Choose another folder, or say that it may be replaced (--replace).");
    if (!fs::is_directory(there) || !fs::exists(place / marker, ec))
        return fail(Code::refused,
                    fmt::format("“{}” was not made by this command before: it holds no “{}”.", place.string(), marker),
                    "Only what it made is replaced; choose another folder.");
    return {};
}
Outcome move_folder_into_place(const fs::path& temporary, const fs::path& place, bool replace) {
    std::error_code ec;
    if (!replace || !fs::exists(fs::symlink_status(place, ec))) return move_into_place(temporary, place);
    if (::renameat2(AT_FDCWD, temporary.c_str(), AT_FDCWD, place.c_str(), RENAME_EXCHANGE) == 0) {
        fs::remove_all(temporary, ec);
        return {};
    }
    auto aside = place.parent_path() / temporary_name(place.filename().string());
    if (::rename(place.c_str(), aside.c_str()) != 0)
        return std::unexpected(errno_error(errno, fmt::format("Replacing “{}”", place.string())));
    auto moved = move_into_place(temporary, place);
    if (!moved) ::rename(aside.c_str(), place.c_str());
    if (moved) fs::remove_all(aside, ec);
    return moved;
}

void forget_reads() { ReadFiles::of_process().clear(); }

namespace {
/// Whether what stands at a place may be replaced.
Outcome may_replace(const fs::path& path, Replace replace) {
    std::error_code ec;
    auto there = fs::symlink_status(path, ec);
    if (!fs::exists(there)) return {};
    if (replace == Replace::nothing)
        return fail(Code::exists, fmt::format("“{}” is already there.", path.string()), "Choose another name.");
    if (!fs::is_regular_file(fs::status(path, ec)))
        return fail(Code::refused, fmt::format("“{}” is not a plain file, so it is not written over.", path.string()),
                    "Choose another name.");
    if (replace == Replace::unread && ReadFiles::of_process().holds(path))
        return fail(Code::refused, fmt::format("“{}” is what is read, so it is not written over.", path.string()),
                    "Choose another name.");
    return {};
}
}  // namespace

Result<FileWriter> FileWriter::create(const fs::path& asked, Replace replace) {
    TRY_DO(may_replace(asked, replace));
    std::error_code ec, none;
    auto path = fs::is_symlink(asked, none) ? fs::canonical(asked, ec) : asked;
    if (ec) return std::unexpected(errno_error(ec.value(), fmt::format("Writing “{}”", asked.string())));
    // Once in each folder is enough, and a folder may be large.
    static std::mutex mutex;
    static std::set<fs::path> cleared;
    if (std::lock_guard lock(mutex); cleared.insert(path.parent_path()).second) clear_remains(path.parent_path());
    FileWriter writer;
    writer.path_ = path;
    writer.replace_ = replace;
    writer.temporary_ = path.parent_path() / temporary_name(path.filename().string());
    writer.fd_ = ::open(writer.temporary_.c_str(), O_RDWR | O_CREAT | O_EXCL | O_CLOEXEC, 0644);
    if (writer.fd_ < 0) return std::unexpected(errno_error(errno, fmt::format("Writing “{}”", path.string())));
    return writer;
}

FileWriter::FileWriter(FileWriter&& o) noexcept
    : held_(std::move(o.held_)),
      fd_(std::exchange(o.fd_, -1)),
      path_(std::move(o.path_)),
      temporary_(std::move(o.temporary_)),
      check_(std::move(o.check_)),
      position_(o.position_),
      replace_(o.replace_) {}

FileWriter::~FileWriter() {
    if (fd_ < 0) return;
    ::close(fd_);
    ::unlink(temporary_.c_str());
}

Outcome FileWriter::write(ByteView bytes) {
    position_ += bytes.size();
    held_.insert(held_.end(), bytes.begin(), bytes.end());
    return held_.size() < (1 << 20) ? Outcome{} : flush();
}
Outcome FileWriter::flush() {
    auto written = put(position_ - held_.size(), held_);
    if (written) held_.clear();
    return written;
}
Outcome FileWriter::write_at(std::uint64_t offset, ByteView bytes) {
    TRY_DO(flush());
    return put(offset, bytes);
}

Outcome FileWriter::put(std::uint64_t offset, ByteView bytes) {
    while (!bytes.empty()) {
        auto n = ::pwrite(fd_, bytes.data(), bytes.size(), static_cast<off_t>(offset));
        if (n < 0 && errno == EINTR) continue;
        if (n < 0) return std::unexpected(errno_error(errno, fmt::format("Writing “{}”", path_.string())));
        offset += static_cast<std::uint64_t>(n);
        bytes = bytes.subspan(static_cast<std::size_t>(n));
    }
    return {};
}

Outcome FileWriter::insert_gap(std::uint64_t offset, std::uint64_t extra, const Progress& told) {
    TRY_DO(flush());
    Bytes block(1 << 20);
    for (auto end = position_; end > offset;) {
        if (told && !told(static_cast<double>(position_ - end) / static_cast<double>(position_ - offset)))
            return fail(Code::cancelled, fmt::format("Writing “{}” was stopped.", path_.string()));
        auto n = std::min<std::uint64_t>(block.size(), end - offset);
        auto got = ::pread(fd_, block.data(), n, static_cast<off_t>(end - n));
        if (got != static_cast<ssize_t>(n))
            return std::unexpected(errno_error(got < 0 ? errno : EIO, fmt::format("Writing “{}”", path_.string())));
        TRY_DO(write_at(end - n + extra, ByteView(block).first(n)));
        end -= n;
    }
    position_ += extra;
    return {};
}

Outcome FileWriter::commit() {
    auto broken = [&] { return std::unexpected(errno_error(errno, fmt::format("Writing “{}”", path_.string()))); };
    TRY_DO(flush());
    if (check_) TRY_DO(check_(temporary_));
    // It may have been opened since.
    TRY_DO(may_replace(path_, replace_));
    if (::fsync(fd_) != 0) return broken();
    if (replace_ == Replace::nothing)
        TRY_DO(move_into_place(temporary_, path_));
    else if (::rename(temporary_.c_str(), path_.c_str()) != 0)
        return broken();
    // What was looked at while it was made is one's own all the same.
    if (struct stat st{}; ::fstat(fd_, &st) == 0) ReadFiles::of_process().forget(st);
    ::close(std::exchange(fd_, -1));
    return {};
}

Outcome MemorySink::write(ByteView bytes) {
    bytes_.insert(bytes_.end(), bytes.begin(), bytes.end());
    return {};
}
Outcome MemorySink::write_at(std::uint64_t offset, ByteView bytes) {
    bytes_.resize(std::max<std::size_t>(bytes_.size(), offset + bytes.size()));
    std::copy(bytes.begin(), bytes.end(), bytes_.begin() + static_cast<std::ptrdiff_t>(offset));
    return {};
}
Outcome MemorySink::insert_gap(std::uint64_t offset, std::uint64_t extra, const Progress& told) {
    if (told && !told(0)) return fail(Code::cancelled, "Writing was stopped.");
    bytes_.insert(bytes_.begin() + static_cast<std::ptrdiff_t>(offset), extra, 0);
    return {};
}
Outcome MemorySink::commit() {
    *into_ = std::move(bytes_);
    return {};
}

Outcome make_folder(const fs::path& path) {
    std::error_code ec;
    fs::create_directories(path, ec);
    if (!ec) return {};
    std::error_code ignored;
    if (fs::exists(path, ignored))
        return fail(Code::exists, fmt::format("“{}” is a file, not a folder.", path.string()), "Choose another name.");
    return std::unexpected(errno_error(ec.value(), fmt::format("Making “{}”", path.string())));
}

Result<FileBatch> FileBatch::begin(const fs::path& folder, Replace replace) {
    FileBatch batch;
    std::error_code ec;
    // The topmost folder that is not there yet.
    auto whole = fs::absolute(folder, ec).lexically_normal();
    for (auto at = whole; !ec && !fs::exists(at, ec) && at.has_relative_path(); at = at.parent_path()) batch.made_ = at;
    TRY_DO(make_folder(folder));
    clear_remains(folder);
    batch.folder_ = folder, batch.replace_ = replace;
    batch.temporary_ = folder / temporary_name("batch");
    if (::mkdir(batch.temporary_.c_str(), 0755) != 0)
        return std::unexpected(errno_error(errno, fmt::format("Writing into “{}”", folder.string())));
    return batch;
}
FileBatch::FileBatch(FileBatch&& o) noexcept
    : folder_(std::move(o.folder_)),
      temporary_(std::exchange(o.temporary_, {})),
      made_(std::exchange(o.made_, {})),
      names_(std::move(o.names_)),
      replace_(o.replace_) {}
FileBatch::~FileBatch() {
    std::error_code ec;
    if (!temporary_.empty()) fs::remove_all(temporary_, ec);
    // Only where nobody else has put anything there: each folder goes where it is empty.
    for (auto at = fs::absolute(folder_, ec).lexically_normal(); !made_.empty(); at = at.parent_path()) {
        if (!fs::remove(at, ec) || at == made_) break;
    }
}
Result<fs::path> FileBatch::place(const std::string& name) {
    TRY_DO(may_replace(folder_ / name, replace_));
    names_.push_back(name);
    return temporary_ / name;
}
Outcome FileBatch::commit() {
    for (auto& name : names_) TRY_DO(may_replace(folder_ / name, replace_));
    std::set<std::string> moved;
    for (auto& name : names_) {
        if (!moved.insert(name).second) continue;
        auto to = folder_ / name;
        if (replace_ == Replace::nothing)
            TRY_DO(move_into_place(temporary_ / name, to));
        else if (::rename((temporary_ / name).c_str(), to.c_str()) != 0)
            return std::unexpected(errno_error(errno, fmt::format("Writing “{}”", to.string())));
    }
    std::error_code ec;
    fs::remove_all(std::exchange(temporary_, {}), ec);
    made_.clear();
    return {};
}

bool lies_inside(const fs::path& file, const fs::path& folder) {
    std::error_code ec;
    auto relative = fs::weakly_canonical(file, ec).lexically_relative(fs::weakly_canonical(folder, ec));
    return !ec && !relative.empty() && *relative.begin() != "..";
}

Outcome write_file(const fs::path& path, ByteView bytes, Replace replace) {
    TRY(auto writer, FileWriter::create(path, replace));
    TRY_DO(writer.write(bytes));
    return writer.commit();
}

Result<Bytes> read_file(const fs::path& path, std::uint64_t limit) {
    TRY(auto source, open_file(path));
    auto size = source->size().value_or(0);
    if (size > limit)
        return fail(Code::limit, fmt::format("“{}” is too large to be read as a whole.", path.filename().string()),
                    "Is it the right file?");
    SourceReader reader(source);
    Bytes bytes;
    TRY_DO(reader.read(0, size, bytes));
    return bytes;
}

}  // namespace ruedo
