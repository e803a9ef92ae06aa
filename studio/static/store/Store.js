/**
 * What the page shows now, apart from what is drawn: plain values with known names. Who wants to follow one subscribes to it.
 *
 * @typedef {object} State
 * @property {'keyed' | 'simulated' | 'both'} shown  which motion the stage shows
 * @property {string} wantedTake  the number of the take that was chosen, '' for the one that fits the setup
 * @property {string} besideTake  the number of the take that is its ghost, '' for the keyed clip
 * @property {number | null} takeId  the take that is shown
 * @property {string[]} partNames  what the core calls the skin's parts, in its order
 * @property {{ wire: boolean, paper: boolean, skin: boolean, cut: number }} solidLook  what of a soft volume's inside is shown
 * @property {number} metresPerUnit  how long one unit of the file is
 * @property {boolean} isReady  whether the character is on the stage, or cannot be
 */
export class Store {
  /** @param {State} state */
  constructor(state) {
    this.state = state;
    /** @type {Map<keyof State, Set<() => void>>} */
    this._followers = new Map();
  }

  /** Change some values; those who follow one that is another now are called.
   * @param {Partial<State>} changes */
  set(changes) {
    const names = /** @type {(keyof State)[]} */ (Object.keys(changes)).filter((name) => this.state[name] !== changes[name]);
    Object.assign(this.state, changes);
    const calls = new Set(names.flatMap((name) => [...(this._followers.get(name) ?? [])]));
    for (const call of calls) call();
  }

  /** Call a function whenever one of some values is another.
   * @param {(keyof State)[]} names @param {() => void} call */
  follow(names, call) {
    for (const name of names) {
      const calls = this._followers.get(name) ?? new Set();
      calls.add(call);
      this._followers.set(name, calls);
    }
  }
}
