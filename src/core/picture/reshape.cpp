// SPDX-License-Identifier: Apache-2.0
#include "picture/reshape.h"

#include <fmt/format.h>
#include <libyuv.h>
#include <zimg.h>

#include <algorithm>
#include <cstdlib>
#include <cstring>
#include <memory>

namespace ruedo {
namespace {
constexpr std::size_t alignment = 64;
constexpr int aligned(int n) { return (n + 63) / 64 * 64; }

/// Rows of a plane into a larger one, the last column and row repeated.
void put_plane(const std::uint8_t* from, int from_stride, int w, int h, std::uint8_t* to, int to_stride, int to_w,
               int to_h) {
    for (std::ptrdiff_t y = 0; y < to_h; ++y) {
        auto* row = from + std::min<std::ptrdiff_t>(y, h - 1) * from_stride;
        auto* out = to + y * to_stride;
        std::memcpy(out, row, static_cast<std::size_t>(std::min(w, to_w)));
        if (to_w > w) std::memset(out + w, row[w - 1], static_cast<std::size_t>(to_w - w));
    }
}

zimg_image_format format_of(int width, int height, const Colour& colour) {
    zimg_image_format f;
    zimg_image_format_default(&f, ZIMG_API_VERSION);
    f.width = static_cast<unsigned>(width), f.height = static_cast<unsigned>(height);
    f.pixel_type = ZIMG_PIXEL_BYTE;
    f.subsample_w = f.subsample_h = 1;
    f.color_family = ZIMG_COLOR_YUV;
    f.depth = 8;
    f.pixel_range = colour.range == Colour::Range::full ? ZIMG_RANGE_FULL : ZIMG_RANGE_LIMITED;
    f.matrix_coefficients = static_cast<zimg_matrix_coefficients_e>(colour.matrix_code());
    f.chroma_location = ZIMG_CHROMA_LEFT;
    return f;
}
}  // namespace

bool Reshape::leaves(const Frame& p) const {
    auto given = p.colour.resolved(p.height);
    return x == 0 && y == 0 && width == p.width && height == p.height && to_width == p.width && to_height == p.height &&
           turn == 0 && canvas_width == to_width && canvas_height == to_height && colour.matrix == given.matrix &&
           colour.range == given.range;
}

struct Reshaper::Graph {
    /// Planes of even size as the library wants them: rows and beginnings on its boundaries.
    class AlignedPlanes {
      public:
        void resize(int w, int h) {
            if (w == width && h == height) return;
            width = w, height = h;
            stride = {aligned(w), aligned(w / 2), aligned(w / 2)};
            auto rows = static_cast<std::size_t>(h), luma = static_cast<std::size_t>(stride[0]) * rows,
                 chroma = static_cast<std::size_t>(stride[1]) * (rows / 2);
            memory_.reset(static_cast<std::uint8_t*>(std::aligned_alloc(alignment, luma + 2 * chroma)));
            if (!memory_) throw std::bad_alloc();
            plane = {memory_.get(), memory_.get() + luma, memory_.get() + luma + chroma};
        }
        int width = 0, height = 0;
        std::array<int, 3> stride{};
        std::array<std::uint8_t*, 3> plane{};

      private:
        struct Free {
            void operator()(std::uint8_t* p) const { std::free(p); }
        };
        std::unique_ptr<std::uint8_t, Free> memory_;
    };

    ~Graph() { zimg_filter_graph_free(graph); }
    zimg_filter_graph* graph = nullptr;
    Reshape wanted;
    int width = 0, height = 0;
    Colour colour;
    AlignedPlanes in, out;
    std::unique_ptr<std::byte[]> memory;
    std::byte* scratch = nullptr;

    Status set_up(const Frame& p, const Reshape& w) {
        zimg_filter_graph_free(std::exchange(graph, nullptr));
        wanted = w, width = p.width, height = p.height, colour = p.colour.resolved(p.height);
        in.resize(p.width + p.width % 2, p.height + p.height % 2);
        out.resize(w.to_width + w.to_width % 2, w.to_height + w.to_height % 2);
        auto from = format_of(in.width, in.height, colour), to = format_of(out.width, out.height, w.colour);
        from.active_region.left = w.x, from.active_region.top = w.y;
        // Chroma of an odd size has half a column or row too many: the source area grows with it, or it would be
        // stretched.
        from.active_region.width = w.width * out.width / w.to_width;
        from.active_region.height = w.height * out.height / w.to_height;
        zimg_graph_builder_params how;
        zimg_graph_builder_params_default(&how, ZIMG_API_VERSION);
        bool down = w.to_width < w.width || w.to_height < w.height;
        how.resample_filter = how.resample_filter_uv = down ? ZIMG_RESIZE_LANCZOS : ZIMG_RESIZE_SPLINE36;
        how.dither_type = ZIMG_DITHER_NONE;
        graph = zimg_filter_graph_build(&from, &to, &how);
        std::size_t needed = 0;
        if (!graph || zimg_filter_graph_get_tmp_size(graph, &needed) != ZIMG_ERROR_SUCCESS) {
            std::array<char, 256> why{};
            zimg_get_last_error(why.data(), why.size());
            return fail(
                ErrorCode::limit,
                fmt::format("A picture of {} × {} cannot be made {} × {}.", p.width, p.height, w.to_width, w.to_height),
                "Choose another size.");
        }
        memory = std::make_unique<std::byte[]>(needed + alignment);
        auto at = reinterpret_cast<std::uintptr_t>(memory.get());
        scratch = memory.get() + (alignment - at % alignment) % alignment;
        return {};
    }
    Status run(const Frame& p) {
        for (std::size_t i = 0; i < 3; ++i) {
            bool chroma = i > 0;
            put_plane(p.plane[i], p.stride[i], chroma ? (p.width + 1) / 2 : p.width,
                      chroma ? (p.height + 1) / 2 : p.height, in.plane[i], in.stride[i],
                      chroma ? in.width / 2 : in.width, chroma ? in.height / 2 : in.height);
        }
        zimg_image_buffer_const from{};
        zimg_image_buffer to{};
        from.version = to.version = ZIMG_API_VERSION;
        for (std::size_t i = 0; i < 3; ++i) {
            from.plane[i] = {in.plane[i], in.stride[i], ZIMG_BUFFER_MAX};
            to.plane[i] = {out.plane[i], out.stride[i], ZIMG_BUFFER_MAX};
        }
        if (zimg_filter_graph_process(graph, &from, &to, scratch, nullptr, nullptr, nullptr, nullptr) !=
            ZIMG_ERROR_SUCCESS)
            return fail(ErrorCode::internal, "A picture could not be scaled.");
        return {};
    }
};

Reshaper::Reshaper() = default;
Reshaper::~Reshaper() = default;

Result<Frame> Reshaper::make(const Frame& p, const Reshape& w) {
    if (w.leaves(p)) return p;
    auto colour = p.colour.resolved(p.height);
    if (!graph_ || !(graph_->wanted == w) || graph_->width != p.width || graph_->height != p.height ||
        !(graph_->colour == colour)) {
        graph_ = std::make_unique<Graph>();
        if (auto set = graph_->set_up(p, w); !set) {
            graph_.reset();
            return std::unexpected(set.error());
        }
    }
    auto& g = *graph_;
    RUEDO_TRY_DO(g.run(p));
    bool aside = w.turn % 180 != 0;
    int part_width = aside ? w.to_height : w.to_width, part_height = aside ? w.to_width : w.to_height;
    int canvas_width = w.canvas_width > 0 ? w.canvas_width : part_width,
        canvas_height = w.canvas_height > 0 ? w.canvas_height : part_height;
    std::array<std::uint8_t*, 3> planes{};
    auto made = make_frame(canvas_width, canvas_height, planes);
    made.pts = p.pts, made.duration = p.duration;
    made.colour = w.colour;
    if (canvas_width != part_width || canvas_height != part_height) {
        auto black = static_cast<std::uint8_t>(w.colour.range == Colour::Range::full ? 0 : 16);
        for (std::size_t i = 0; i < 3; ++i)
            std::memset(planes[i], i ? 128 : black,
                        static_cast<std::size_t>(made.stride[i]) *
                            static_cast<std::size_t>(i ? (canvas_height + 1) / 2 : canvas_height));
    }
    std::array<std::uint8_t*, 3> to{};
    for (std::size_t i = 0; i < 3; ++i)
        to[i] =
            planes[i] + static_cast<std::ptrdiff_t>(i ? w.top / 2 : w.top) * made.stride[i] + (i ? w.left / 2 : w.left);
    auto mode = w.turn == 90    ? libyuv::kRotate90
                : w.turn == 180 ? libyuv::kRotate180
                : w.turn == 270 ? libyuv::kRotate270
                                : libyuv::kRotate0;
    libyuv::I420Rotate(g.out.plane[0], g.out.stride[0], g.out.plane[1], g.out.stride[1], g.out.plane[2],
                       g.out.stride[2], to[0], made.stride[0], to[1], made.stride[1], to[2], made.stride[2], w.to_width,
                       w.to_height, mode);
    return made;
}

}  // namespace ruedo
