// SPDX-License-Identifier: Apache-2.0
// Files and folders that appear whole or not at all, and what they may take the place of.
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
#include <set>

#include "io/io.h"
#include "io/read_files.h"

namespace ruedo {
namespace fs = std::filesystem;

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
Status ScratchFolder::make() const {
    clear_remains(path_.parent_path());
    if (::mkdir(path_.c_str(), 0700) == 0) return {};
    auto why = errno;
    // Where anybody may write, what stands under its name already may be somebody else's, or lead elsewhere.
    struct stat there{};
    if (why == EEXIST && ::lstat(path_.c_str(), &there) == 0 && S_ISDIR(there.st_mode) && there.st_uid == ::geteuid())
        return {};
    return std::unexpected(errno_error(why, "Making a folder in “" + path_.parent_path().string() + "”"));
}

Status move_into_place(const fs::path& temporary, const fs::path& place) {
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

Status look_at_folder_place(const fs::path& place, bool replace, const std::string& marker) {
    std::error_code ec;
    auto there = fs::symlink_status(place, ec);
    if (!fs::exists(there)) return {};
    if (!replace)
        return fail(ErrorCode::exists, fmt::format("“{}” is already there.", place.string()),
                    "Choose another folder, or say that it may be replaced (--replace).");
    if (!fs::is_directory(there) || !fs::exists(place / marker, ec))
        return fail(ErrorCode::refused,
                    fmt::format("“{}” was not made by this command before: it holds no “{}”.", place.string(), marker),
                    "Only what it made is replaced; choose another folder.");
    return {};
}
Status move_folder_into_place(const fs::path& temporary, const fs::path& place, bool replace) {
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
Status may_replace(const fs::path& path, Replace replace) {
    std::error_code ec;
    auto there = fs::symlink_status(path, ec);
    if (!fs::exists(there)) return {};
    if (replace == Replace::nothing)
        return fail(ErrorCode::exists, fmt::format("“{}” is already there.", path.string()), "Choose another name.");
    if (!fs::is_regular_file(fs::status(path, ec)))
        return fail(ErrorCode::refused,
                    fmt::format("“{}” is not a plain file, so it is not written over.", path.string()),
                    "Choose another name.");
    if (replace == Replace::unread && ReadFiles::of_process().holds(path))
        return fail(ErrorCode::refused, fmt::format("“{}” is what is read, so it is not written over.", path.string()),
                    "Choose another name.");
    return {};
}
}  // namespace

Result<FileWriter> FileWriter::create(const fs::path& asked, Replace replace) {
    RUEDO_TRY_DO(may_replace(asked, replace));
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

Status FileWriter::write(ByteView bytes) {
    position_ += bytes.size();
    held_.insert(held_.end(), bytes.begin(), bytes.end());
    return held_.size() < (1 << 20) ? Status{} : flush();
}
Status FileWriter::flush() {
    auto written = put(position_ - held_.size(), held_);
    if (written) held_.clear();
    return written;
}
Status FileWriter::write_at(std::uint64_t offset, ByteView bytes) {
    RUEDO_TRY_DO(flush());
    return put(offset, bytes);
}

Status FileWriter::put(std::uint64_t offset, ByteView bytes) {
    while (!bytes.empty()) {
        auto n = ::pwrite(fd_, bytes.data(), bytes.size(), static_cast<off_t>(offset));
        if (n < 0 && errno == EINTR) continue;
        if (n < 0) return std::unexpected(errno_error(errno, fmt::format("Writing “{}”", path_.string())));
        offset += static_cast<std::uint64_t>(n);
        bytes = bytes.subspan(static_cast<std::size_t>(n));
    }
    return {};
}

Status FileWriter::insert_gap(std::uint64_t offset, std::uint64_t extra, const Progress& told) {
    RUEDO_TRY_DO(flush());
    Bytes block(1 << 20);
    for (auto end = position_; end > offset;) {
        if (told && !told(static_cast<double>(position_ - end) / static_cast<double>(position_ - offset)))
            return fail(ErrorCode::cancelled, fmt::format("Writing “{}” was stopped.", path_.string()));
        auto n = std::min<std::uint64_t>(block.size(), end - offset);
        auto got = ::pread(fd_, block.data(), n, static_cast<off_t>(end - n));
        if (got != static_cast<ssize_t>(n))
            return std::unexpected(errno_error(got < 0 ? errno : EIO, fmt::format("Writing “{}”", path_.string())));
        RUEDO_TRY_DO(write_at(end - n + extra, ByteView(block).first(n)));
        end -= n;
    }
    position_ += extra;
    return {};
}

Status FileWriter::commit() {
    auto broken = [&] { return std::unexpected(errno_error(errno, fmt::format("Writing “{}”", path_.string()))); };
    RUEDO_TRY_DO(flush());
    if (check_) RUEDO_TRY_DO(check_(temporary_));
    // It may have been opened since.
    RUEDO_TRY_DO(may_replace(path_, replace_));
    if (::fsync(fd_) != 0) return broken();
    if (replace_ == Replace::nothing)
        RUEDO_TRY_DO(move_into_place(temporary_, path_));
    else if (::rename(temporary_.c_str(), path_.c_str()) != 0)
        return broken();
    // What was looked at while it was made is one's own all the same.
    if (struct stat st{}; ::fstat(fd_, &st) == 0) ReadFiles::of_process().forget(st);
    ::close(std::exchange(fd_, -1));
    return {};
}

Status MemorySink::write(ByteView bytes) {
    bytes_.insert(bytes_.end(), bytes.begin(), bytes.end());
    return {};
}
Status MemorySink::write_at(std::uint64_t offset, ByteView bytes) {
    bytes_.resize(std::max<std::size_t>(bytes_.size(), offset + bytes.size()));
    std::copy(bytes.begin(), bytes.end(), bytes_.begin() + static_cast<std::ptrdiff_t>(offset));
    return {};
}
Status MemorySink::insert_gap(std::uint64_t offset, std::uint64_t extra, const Progress& told) {
    if (told && !told(0)) return fail(ErrorCode::cancelled, "Writing was stopped.");
    bytes_.insert(bytes_.begin() + static_cast<std::ptrdiff_t>(offset), extra, 0);
    return {};
}
Status MemorySink::commit() {
    *into_ = std::move(bytes_);
    return {};
}

Status make_folder(const fs::path& path) {
    std::error_code ec;
    fs::create_directories(path, ec);
    if (!ec) return {};
    std::error_code ignored;
    if (fs::exists(path, ignored))
        return fail(ErrorCode::exists, fmt::format("“{}” is a file, not a folder.", path.string()),
                    "Choose another name.");
    return std::unexpected(errno_error(ec.value(), fmt::format("Making “{}”", path.string())));
}

Result<FileBatch> FileBatch::begin(const fs::path& folder, Replace replace) {
    FileBatch batch;
    std::error_code ec;
    // The topmost folder that is not there yet.
    auto whole = fs::absolute(folder, ec).lexically_normal();
    for (auto at = whole; !ec && !fs::exists(at, ec) && at.has_relative_path(); at = at.parent_path()) batch.made_ = at;
    RUEDO_TRY_DO(make_folder(folder));
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
    RUEDO_TRY_DO(may_replace(folder_ / name, replace_));
    names_.push_back(name);
    return temporary_ / name;
}
Status FileBatch::commit() {
    for (auto& name : names_) RUEDO_TRY_DO(may_replace(folder_ / name, replace_));
    std::set<std::string> moved;
    for (auto& name : names_) {
        if (!moved.insert(name).second) continue;
        auto to = folder_ / name;
        if (replace_ == Replace::nothing)
            RUEDO_TRY_DO(move_into_place(temporary_ / name, to));
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

Status write_file(const fs::path& path, ByteView bytes, Replace replace) {
    RUEDO_TRY(auto writer, FileWriter::create(path, replace));
    RUEDO_TRY_DO(writer.write(bytes));
    return writer.commit();
}

}  // namespace ruedo
