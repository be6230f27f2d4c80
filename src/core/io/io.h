// SPDX-License-Identifier: Apache-2.0
// Byte sources to read media from, and files written whole or not at all.
#pragma once
#include <atomic>
#include <filesystem>
#include <functional>
#include <memory>
#include <optional>

#include "base/bytes.h"
#include "base/result.h"
#include "base/time.h"

namespace ruedo {

/// Bytes at offsets. Thread-safe; every call returns within its deadline.
class ByteSource {
  public:
    virtual ~ByteSource() = default;
    /// Reads up to `into.size()` bytes at `offset`; fewer only at the end, 0 past it.
    virtual Result<std::size_t> read_at(std::uint64_t offset, std::span<std::uint8_t> into) = 0;
    /// Bytes in all, when that is known.
    virtual std::optional<std::uint64_t> size() const = 0;
    /// Whether reading here and there costs about as much as reading on; not so over a network.
    virtual bool cheap_to_seek() const { return true; }
    /// Bytes come in order and only in order: what lies far ahead is reached by waiting for all that lies before
    /// it, and an unknown `size` means that no end may ever come. Known once something has been read.
    virtual bool forward_only() const { return false; }
    /// Another file than the one that was opened: its length or the time of its last change differs.
    virtual bool altered() const { return false; }
    struct Range {
        std::uint64_t from = 0, to = 0;
    };
    /// What of it is held now, sorted, without overlaps, where it has to be fetched; nothing for a local file.
    virtual std::optional<std::vector<Range>> buffered() const { return std::nullopt; }
    /// Where they are fetched from, where that is over a network.
    virtual std::optional<std::string> address() const { return std::nullopt; }
    /// Bytes fetched so far.
    virtual std::uint64_t received() const { return 0; }
    /// For sentences: the file's name without its folder.
    virtual const std::string& name() const = 0;
    /// Makes reads under way and to come fail with `cancelled`; from any thread. Local reads are quick anyway.
    virtual void cancel() {}
};

/// While it lives, reads of this thread give up when `flag` turns true (`cancelled`) or `deadline`, a monotonic
/// time, has passed (`timeout`); with `buffered_only` they fail at once (`timeout`) where waiting for the network
/// would be needed. Scopes nest: every one around a read counts.
class ReadScope {
  public:
    explicit ReadScope(const std::atomic<bool>* flag, bool buffered_only = false, Time deadline = Time::max());
    ~ReadScope();
    ReadScope(const ReadScope&) = delete;
    ReadScope& operator=(const ReadScope&) = delete;
    /// Whether a read may not go on; cheap, to be asked for every packet.
    static bool given_up();
    /// Why, where that is so; `subject` is what is being read, and what keeps it waiting.
    static Error stopped(std::string_view subject);
    static bool only_buffered();
    /// What makes a read give up; none where nothing does.
    static const std::atomic<bool>* flag();

  private:
    const std::atomic<bool>* flag_;
    bool buffered_only_;
    Time deadline_;
    const ReadScope* outer_;
};
/// While it lives, reads of this thread over a network give up (`limit`) once they have brought more bytes than this: a
/// walk to the next packet, or through a header, that finds nothing for so long is not one that ends.
class ReadBudget {
  public:
    static constexpr std::uint64_t of_a_packet = 256 << 20, of_opening = 1 << 30;
    explicit ReadBudget(std::uint64_t bytes);
    ~ReadBudget();
    ReadBudget(const ReadBudget&) = delete;
    ReadBudget& operator=(const ReadBudget&) = delete;
    /// Asked by what reads; false where one of those around it is used up.
    static bool spend(std::uint64_t bytes);
    /// From here on it has all of it again.
    void renew() { left_ = bytes_; }

  private:
    std::uint64_t bytes_, left_;
    ReadBudget* outer_;
};
/// One deadline for opening as a whole, unless a document says otherwise.
constexpr Time open_deadline{20'000'000'000};

/// A file, bytes at an address (http.h), or a clip that a catalogue knows (catalogue.h), whichever `source` names.
Result<std::shared_ptr<ByteSource>> open_source(const std::string& source);

/// A file on disk. An empty file, a folder and a missing file are refused with their own code; a missing one
/// names the nearest that exists.
Result<std::shared_ptr<ByteSource>> open_file(const std::filesystem::path& path);
std::shared_ptr<ByteSource> memory_source(Bytes bytes, std::string name);
/// The one of `names` that `wanted` is most likely a slip for, when one is close enough.
std::optional<std::string> closest(const std::string& wanted, std::span<const std::string_view> names);
/// The file in the same folder whose name is closest to the missing `path`, when one is close enough.
std::optional<std::filesystem::path> nearest_name(const std::filesystem::path& path);

/// Reads a source through one buffer; for walking forward in small steps. Not thread-safe.
class SourceReader {
  public:
    explicit SourceReader(std::shared_ptr<ByteSource> source, std::size_t buffer = 1 << 16);
    /// Up to `n` bytes at `offset`, fewer at the end of the source; valid until the next call.
    /// `n` may not exceed the buffer's size.
    Result<ByteView> view(std::uint64_t offset, std::size_t n);
    /// Exactly `n` bytes at `offset` into `out`, or the error `truncated`.
    Status read(std::uint64_t offset, std::uint64_t n, Bytes& out);
    ByteSource& source() { return *source_; }
    std::uint64_t size_or_max() const { return size_; }

  private:
    std::shared_ptr<ByteSource> source_;
    std::uint64_t size_;
    Bytes buffer_;
    std::uint64_t start_ = 0, read_to_ = UINT64_MAX;
    std::size_t filled_ = 0;
};

/// Moves what was made under a temporary name to its place, where nothing may be yet. File systems that can't say
/// so in one step (network ones) are asked twice: whether it is there, then to move.
Status move_into_place(const std::filesystem::path& temporary, const std::filesystem::path& place);
/// Whether a folder that is to be made may stand at `place`: nothing is there, or with `replace` a folder that holds
/// `marker`, so that it was made by the same command before. `exists` and `refused` otherwise.
Status look_at_folder_place(const std::filesystem::path& place, bool replace, const std::string& marker);
/// A folder that was made under a temporary name moves to its place; one that stands there, which
/// `look_at_folder_place` allowed, is removed in exchange.
Status move_folder_into_place(const std::filesystem::path& temporary, const std::filesystem::path& place, bool replace);
/// Removes what processes that have ended since left in `folder` under temporary names.
void clear_remains(const std::filesystem::path& folder);
/// The temporary name of this process for `name`: ".NAME.PID-COUNT.part".
std::string temporary_name(const std::string& name);

/// A folder of one’s own where the system keeps what is temporary (TMPDIR), for files that nobody is to find; gone with
/// this. One belongs to one thread.
class ScratchFolder {
  public:
    /// Makes nothing yet; `name` says in the folder’s what it is for.
    explicit ScratchFolder(const std::string& name);
    ~ScratchFolder();
    ScratchFolder(const ScratchFolder&) = delete;
    ScratchFolder& operator=(const ScratchFolder&) = delete;
    /// Makes it, where it isn’t there yet, and removes what processes that have ended since left beside it.
    Status make() const;
    const std::filesystem::path& path() const { return path_; }

  private:
    std::filesystem::path path_;
};

/// Hears how much of a long step is done, 0 to 1; false from it stops the step with the error `cancelled`.
using Progress = std::function<bool(double done)>;

/// Where a writer of containers puts its bytes. Not thread-safe.
class ByteSink {
  public:
    virtual ~ByteSink() = default;
    virtual Status write(ByteView bytes) = 0;
    /// Over what was written before.
    virtual Status write_at(std::uint64_t offset, ByteView bytes) = 0;
    virtual std::uint64_t position() const = 0;
    /// Makes room for `extra` bytes at `offset` by moving what follows; for an index put in front.
    virtual Status insert_gap(std::uint64_t offset, std::uint64_t extra, const Progress& told = {}) = 0;
    /// What was written is whole; without this it is as if nothing had been.
    virtual Status commit() = 0;
};

/// Bytes in memory, for a segment or a test.
class MemorySink final : public ByteSink {
  public:
    /// `into` is filled by `commit` and must outlive this.
    explicit MemorySink(Bytes& into) : into_(&into) {}
    Status write(ByteView bytes) override;
    Status write_at(std::uint64_t offset, ByteView bytes) override;
    std::uint64_t position() const override { return bytes_.size(); }
    Status insert_gap(std::uint64_t offset, std::uint64_t extra, const Progress& told = {}) override;
    Status commit() override;

  private:
    Bytes* into_;
    Bytes bytes_;
};

/// What a new file may take the place of. `unread`: of any but those that this process has opened for reading, which
/// `open_file` keeps by device and inode, whatever name or link leads to them. `anything` is for files of one’s own.
enum class Replace { nothing, unread, anything };
/// Another run begins in this process: what was read before may be written over.
void forget_reads();
/// What somebody allows who says that a file may be written over.
constexpr Replace replacing(bool allowed) { return allowed ? Replace::unread : Replace::nothing; }

/// A file being made under a temporary name beside its place. `commit` flushes it and moves it there; a
/// writer destroyed before that leaves nothing behind. Where a link stands in its place, what the link leads to is
/// replaced, and only where that is a plain file.
class FileWriter final : public ByteSink {
  public:
    /// `exists` where `replace` does not allow it, `refused` for what is read and for devices.
    static Result<FileWriter> create(const std::filesystem::path& path, Replace replace = Replace::nothing);
    FileWriter(FileWriter&&) noexcept;
    FileWriter& operator=(FileWriter&&) = delete;
    ~FileWriter() override;
    Status write(ByteView bytes) override;
    Status write_at(std::uint64_t offset, ByteView bytes) override;
    std::uint64_t position() const override { return position_; }
    Status insert_gap(std::uint64_t offset, std::uint64_t extra, const Progress& told = {}) override;
    Status commit() override;
    /// Asked with the file as it is under its temporary name, whole, before it is moved to its place: an error leaves
    /// nothing behind.
    void before_commit(std::function<Status(const std::filesystem::path&)> check) { check_ = std::move(check); }

  private:
    FileWriter() = default;
    Status flush();
    Status put(std::uint64_t offset, ByteView bytes);
    Bytes held_;  ///< The last of what was written, on its way to the file.
    int fd_ = -1;
    std::filesystem::path path_, temporary_;
    std::function<Status(const std::filesystem::path&)> check_;
    std::uint64_t position_ = 0;
    Replace replace_ = Replace::nothing;
};

/// Files that appear in a folder together, or not at all. Not thread-safe.
class FileBatch {
  public:
    /// Makes the folder, where it is missing.
    static Result<FileBatch> begin(const std::filesystem::path& folder, Replace replace);
    FileBatch(FileBatch&&) noexcept;
    FileBatch& operator=(FileBatch&&) = delete;
    /// What was not committed is gone, and so is a folder that was made for it.
    ~FileBatch();
    /// Where the file of this name is written before `commit`; `exists` as of `FileWriter::create`.
    Result<std::filesystem::path> place(const std::string& name);
    /// Where it is found afterwards.
    std::filesystem::path final_place(const std::string& name) const { return folder_ / name; }
    Status commit();

  private:
    FileBatch() = default;
    std::filesystem::path folder_, temporary_, made_;
    std::vector<std::string> names_;
    Replace replace_ = Replace::nothing;
};

/// A folder and those above it, where they are not there yet; `exists` where a file stands in its place.
Status make_folder(const std::filesystem::path& path);
Status write_file(const std::filesystem::path& path, ByteView bytes, Replace replace = Replace::anything);
/// Whether `file` lies in `folder` or below it, once all links are followed.
bool lies_inside(const std::filesystem::path& file, const std::filesystem::path& folder);
Result<Bytes> read_file(const std::filesystem::path& path, std::uint64_t limit = 64 << 20);

}  // namespace ruedo
