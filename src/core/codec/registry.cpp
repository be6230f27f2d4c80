// SPDX-License-Identifier: Apache-2.0
#include <dlfcn.h>
#include <fmt/format.h>

#include <algorithm>
#include <mutex>

#include "codec/codec.h"

namespace ruedo {
namespace fs = std::filesystem;

struct CodecRegistry::State {
    std::once_flag once;
    std::vector<Found> modules;
};

fs::path executable_path() {
    std::error_code ec;
    return fs::read_symlink("/proc/self/exe", ec);
}

static fs::path& chosen_folder() {
    static fs::path folder;
    return folder;
}
void CodecRegistry::set_standard_folder(fs::path folder) { chosen_folder() = std::move(folder); }

CodecRegistry& CodecRegistry::standard() {
    static auto& registry = *new CodecRegistry([] {  // never destroyed: threads may still decode at exit
        if (!chosen_folder().empty()) return chosen_folder();
        auto beside = executable_path().parent_path();
        std::error_code ec;
        return fs::is_directory(beside / "lib", ec) ? beside / "lib" : beside.parent_path() / "lib" / "ruedo";
    }());
    return registry;
}

CodecRegistry::CodecRegistry(fs::path folder) : folder_(std::move(folder)), state_(std::make_unique<State>()) {}
CodecRegistry::~CodecRegistry() = default;

const std::vector<CodecRegistry::Found>& CodecRegistry::modules() {
    std::call_once(state_->once, [this] {
        std::error_code ec;
        std::vector<fs::path> files;
        for (fs::directory_iterator it(folder_, ec), end; !ec && it != end; it.increment(ec)) {
            auto name = it->path().filename().string();
            if (name.starts_with("codec-") && name.ends_with(".so")) files.push_back(it->path());
        }
        std::sort(files.begin(), files.end());
        for (auto& file : files) {
            // Never unloaded: pictures and decoders of a module may outlive the registry.
            void* handle = dlopen(file.c_str(), RTLD_NOW | RTLD_LOCAL);
            if (!handle) continue;  // its library is not installed; the codec is then missing, and said to be
            auto entry = reinterpret_cast<const CodecModule* (*)()>(dlsym(handle, "ruedo_codec_module"));
            auto* module = entry ? entry() : nullptr;
            if (module && module->abi == CodecModule::current_abi) state_->modules.push_back({module, file});
        }
    });
    return state_->modules;
}

namespace {
bool has(const std::vector<Codec>& list, Codec codec) {
    return std::find(list.begin(), list.end(), codec) != list.end();
}

Error missing(Codec codec, const char* verb) {
    return {ErrorCode::codec_missing, fmt::format("No adapter here {} {}.", verb, codec_title(codec)),
            "Install the codec’s library, or export the track again in another codec."};
}
/// Cuts off what the container says is no part of the frames.
class CroppingDecoder final : public VideoDecoder {
  public:
    CroppingDecoder(std::unique_ptr<VideoDecoder> decoder, const Crop& edges)
        : decoder_(std::move(decoder)), edges_(edges) {}
    Status decode(ByteView data, Time pts, bool keyframe, std::vector<Frame>& out) override {
        return cut(out, [&] { return decoder_->decode(data, pts, keyframe, out); });
    }
    Status drain(std::vector<Frame>& out) override {
        return cut(out, [&] { return decoder_->drain(out); });
    }
    Status flush_early(std::vector<Frame>& out) override {
        return cut(out, [&] { return decoder_->flush_early(out); });
    }
    void reset() override { decoder_->reset(); }
    void hand_out_from(Time from) override { decoder_->hand_out_from(from); }

  private:
    template <class F>
    Status cut(std::vector<Frame>& out, F&& append) {
        auto before = out.size();
        auto done = append();
        for (auto i = before; i < out.size(); ++i) out[i] = cropped(std::move(out[i]), edges_);
        return done;
    }
    std::unique_ptr<VideoDecoder> decoder_;
    Crop edges_;
};

/// An adapter may throw from its library's binding or from memory running out; neither passes this point.
template <class T, class F>
Result<T> guarded(F&& f) {
    try {
        return f();
    } catch (const std::exception& e) {
        return fail(ErrorCode::internal, fmt::format("A codec could not be started: {}.", e.what()),
                    "Close other programs and try again.");
    }
}
}  // namespace

std::optional<CodecRegistry::Found> CodecRegistry::decoder_module(Codec codec) {
    for (auto& m : modules())
        if (has(m.module->decodes, codec)) return m;
    return std::nullopt;
}
std::vector<CodecRegistry::Found> CodecRegistry::decoder_modules() {
    std::vector<Found> all;
    for (auto& m : modules())
        if (m.module->video_decoder || m.module->audio_decoder) all.push_back(m);
    return all;
}
bool CodecRegistry::decodes(Codec codec) { return decoder_module(codec).has_value(); }
bool CodecRegistry::encodes(Codec codec) {
    return std::any_of(modules().begin(), modules().end(), [&](auto& m) { return has(m.module->encodes, codec); });
}

Result<std::unique_ptr<VideoDecoder>> CodecRegistry::video_decoder(const Track& track) {
    if (track.problem) return std::unexpected(*track.problem);
    auto found = decoder_module(track.codec);
    if (!found || !found->module->video_decoder) return std::unexpected(missing(track.codec, "decodes"));
    RUEDO_TRY(auto decoder,
              guarded<std::unique_ptr<VideoDecoder>>([&] { return found->module->video_decoder(track); }));
    if (track.video.crop == Crop{}) return decoder;
    return std::make_unique<CroppingDecoder>(std::move(decoder), track.video.crop);
}
Result<std::unique_ptr<AudioDecoder>> CodecRegistry::audio_decoder(const Track& track) {
    if (track.problem) return std::unexpected(*track.problem);
    auto found = decoder_module(track.codec);
    if (!found || !found->module->audio_decoder) return std::unexpected(missing(track.codec, "decodes"));
    return guarded<std::unique_ptr<AudioDecoder>>([&] { return found->module->audio_decoder(track); });
}
Result<std::unique_ptr<VideoEncoder>> CodecRegistry::video_encoder(Codec codec, const VideoEncodeOptions& options) {
    for (auto& m : modules())
        if (has(m.module->encodes, codec) && m.module->video_encoder)
            return guarded<std::unique_ptr<VideoEncoder>>([&] { return m.module->video_encoder(codec, options); });
    return std::unexpected(missing(codec, "encodes"));
}
Result<std::unique_ptr<AudioEncoder>> CodecRegistry::audio_encoder(Codec codec, const AudioEncodeOptions& options) {
    for (auto& m : modules())
        if (has(m.module->encodes, codec) && m.module->audio_encoder)
            return guarded<std::unique_ptr<AudioEncoder>>([&] { return m.module->audio_encoder(codec, options); });
    return std::unexpected(missing(codec, "encodes"));
}
Result<std::unique_ptr<TextSetter>> CodecRegistry::text_setter() {
    for (auto& m : modules())
        if (m.module->text_setter) return guarded<std::unique_ptr<TextSetter>>([&] { return m.module->text_setter(); });
    return fail(ErrorCode::codec_missing, "No adapter here draws letters.", "Install libpangocairo-1.0-0.");
}

}  // namespace ruedo
