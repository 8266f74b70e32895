// Runs on the audio thread: plays pieces of one channel in their order, as soon after they were spoken as they come evenly, and says
// how much later that is. Each piece says at which frame of the audio clock it was spoken.
class Play extends AudioWorkletProcessor {
  constructor() {
    super();
    // So much is held before it begins; more, where pieces come unevenly.
    this.ahead = Math.round(0.03 * sampleRate);
    this.told = 0;
    this.empty();
    this.port.onmessage = ({ data: { at, samples } }) => {
      if (!samples) {
        this.empty();
        return;
      }
      const piece = new Float32Array(samples);
      this.held.push({ at, piece, used: 0 });
      this.frames += piece.length;
    };
  }

  empty() {
    this.held = [];
    this.frames = 0;
    this.playing = false;
    this.watch();
  }

  /** From now on, see how little is held at the least. */
  watch() {
    this.least = Infinity;
    this.since = currentFrame;
  }

  /** Let go of the oldest so many frames. */
  skip(frames) {
    for (let left = frames; left > 0 && this.held.length;) {
      const [oldest] = this.held;
      const gone = Math.min(left, oldest.piece.length - oldest.used);
      oldest.used += gone;
      this.frames -= gone;
      left -= gone;
      if (oldest.used === oldest.piece.length) this.held.shift();
    }
  }

  process(_, [[output]]) {
    if (!output) return true;
    if (!this.playing) {
      if (this.frames < this.ahead) return true;
      this.playing = true;
      // What came in a heap before is too old to be heard.
      this.skip(this.frames - this.ahead);
      this.watch();
    }
    if (this.frames < output.length) {
      this.playing = false;
      this.ahead = Math.min(Math.round(1.4 * this.ahead), Math.round(0.2 * sampleRate));
      return true;
    }
    this.least = Math.min(this.least, this.frames);
    if (currentFrame - this.since > sampleRate) {
      // More is held all the time than is needed: it only makes everything later.
      if (this.least > this.ahead) this.skip(this.least - Math.round(this.ahead / 2));
      this.watch();
    }
    if (currentFrame - this.told > sampleRate / 4) {
      this.told = currentFrame;
      this.port.postMessage(currentFrame - (this.held[0].at + this.held[0].used));
    }
    for (let frame = 0; frame < output.length; frame += 1) {
      const [oldest] = this.held;
      output[frame] = oldest.piece[oldest.used];
      this.skip(1);
    }
    return true;
  }
}

registerProcessor('play', Play);
