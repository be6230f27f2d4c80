// SPDX-License-Identifier: Apache-2.0
// Inside io: what this process has read, which is not written over.
#pragma once
#include <sys/stat.h>

#include <filesystem>
#include <mutex>
#include <set>

namespace ruedo {

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
    bool holds(const std::filesystem::path& path) {
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

}  // namespace ruedo
