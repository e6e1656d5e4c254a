#pragma once

#include "core/audio/audio_reader.h"

#include <span>

namespace gristle::core {

/// A piece of a performance, see Piece: of which file, and what is done to it.
struct PieceRecipe {
    std::filesystem::path file;
    int channelFromOne = 0;
    double atS = 0.0;   ///< where in the song the file's first frame is
    double fromS = 0.0; ///< where in the song the piece begins, faded in where that is after its beginning
    double toS = 1e9;   ///< where it ends; before that, where the next one begins
    double laterS = 0.0;
    double cents = 0.0; ///< higher, by resampling about the middle of the piece
    double fadeS = 0.01;
    double gain = 1.0; ///< that brings the file's calibration to the layer's
    bool operator==(const PieceRecipe&) const = default;
};

/// One channel of a take file as it is, or a performance joined of pieces of several, from front to back or from a
/// frame on. Joined, frame 0 is the beginning of the song; joins are equal-power fades; a piece that is neither moved
/// by a part of a sample nor retuned passes bit for bit between them. Memory is that of one block. One thread at a
/// time.
class TakeReader {
public:
    /// @error as AudioReader and chooseChannel
    static Result<TakeReader> open(const std::filesystem::path& file, int channelFromOne);
    /// @error besides, Unsupported where the files have several rates; Usage without a piece
    static Result<TakeReader> join(const std::vector<PieceRecipe>& pieces);

    TakeReader(TakeReader&&) noexcept;
    TakeReader& operator=(TakeReader&&) noexcept;
    ~TakeReader();

    const AudioInfo& info() const noexcept; ///< of the (first) file; its frames are those of the whole
    /// Appends up to `frames` samples; how many, 0 at the end. @error as AudioReader
    Result<std::size_t> read(std::vector<float>& into, std::size_t frames);
    Outcome seek(std::int64_t frame);

private:
    struct State;
    explicit TakeReader(std::unique_ptr<State> state);
    std::unique_ptr<State> state_;
};

} // namespace gristle::core
