// Runs on the audio thread: plays pieces of one channel in their order, a little later than they come, and says how much later than
// they were spoken. Each piece says at which frame of the audio clock it was.
class Play extends AudioWorkletProcessor {
  constructor() {
    super();
    this.held = [];
    this.frames = 0;
    this.playing = false;
    // So much is held before it begins; more, where pieces come unevenly.
    this.ahead = Math.round(0.03 * sampleRate);
    this.told = 0;
    this.port.onmessage = ({ data: { at, samples } }) => {
      if (!samples) {
        this.held = [];
        this.frames = 0;
        this.playing = false;
        return;
      }
      const piece = new Float32Array(samples);
      this.held.push({ at, piece, used: 0 });
      this.frames += piece.length;
      // What comes in a heap after a standstill is too old to be heard.
      while (this.frames > this.ahead + 0.25 * sampleRate && this.held.length > 1) {
        const old = this.held.shift();
        this.frames -= old.piece.length - old.used;
      }
    };
  }

  process(_, [[output]]) {
    if (!output) return true;
    if (!this.playing && this.frames >= this.ahead) this.playing = true;
    if (!this.playing) return true;
    for (let frame = 0; frame < output.length; frame += 1) {
      const piece = this.held[0];
      if (!piece) {
        this.playing = false;
        this.ahead = Math.min(Math.round(1.4 * this.ahead), Math.round(0.2 * sampleRate));
        return true;
      }
      if (frame === 0 && currentFrame - this.told > sampleRate / 4) {
        this.told = currentFrame;
        this.port.postMessage(currentFrame - (piece.at + piece.used));
      }
      output[frame] = piece.piece[piece.used];
      piece.used += 1;
      this.frames -= 1;
      if (piece.used === piece.piece.length) this.held.shift();
    }
    return true;
  }
}

registerProcessor('play', Play);
