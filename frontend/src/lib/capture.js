// Runs on the audio thread: gathers what the microphone gives into pieces of 20 ms, interleaved, and passes them on.
class Capture extends AudioWorkletProcessor {
  constructor({ processorOptions: { channels } }) {
    super();
    this.channels = channels;
    this.size = Math.round(sampleRate / 50);
    this.begin();
  }

  begin() {
    this.piece = new Float32Array(this.size * this.channels);
    this.filled = 0;
  }

  process([input]) {
    // A device that gives nothing for a moment gives silence.
    const frames = input[0]?.length ?? 128;
    for (let frame = 0; frame < frames; frame += 1) {
      for (let channel = 0; channel < this.channels; channel += 1)
        this.piece[this.filled * this.channels + channel] = input[channel]?.[frame] ?? 0;
      this.filled += 1;
      if (this.filled === this.size) {
        // `at` is the frame of the audio clock at which the piece began.
        const at = currentFrame + frame + 1 - this.size;
        this.port.postMessage({ at, samples: this.piece.buffer }, [this.piece.buffer]);
        this.begin();
      }
    }
    return true;
  }
}

registerProcessor('capture', Capture);
