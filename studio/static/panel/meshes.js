/** Meshes that are hidden on the stage, remembered for each character on this machine. */
const keyOf = (character) => `keen-hidden-meshes-${character}`;

export class MeshSwitches {
  constructor(character, view) {
    this.key = keyOf(character);
    this.view = view;
    this.hidden = new Set(JSON.parse(localStorage.getItem(this.key) ?? '[]'));
    this.show();
  }

  /** Hide a mesh, or show it again. */
  toggle(index) {
    if (!this.hidden.delete(index)) this.hidden.add(index);
    this.show();
  }

  /** Show one mesh alone; where it is alone already, all. */
  only(index) {
    const others = this.view.parts.map((_, k) => k).filter((k) => k !== index);
    const isAlone = others.every((k) => this.hidden.has(k)) && !this.hidden.has(index);
    this.hidden = new Set(isAlone ? [] : others);
    this.show();
  }

  /** Let the stage and the buttons say what is hidden. */
  show() {
    localStorage.setItem(this.key, JSON.stringify([...this.hidden]));
    this.view.parts.forEach((part, index) => { part.visible = !this.hidden.has(index) && !this.view.isUnder(part); });
    for (const button of document.querySelectorAll('[data-hide-mesh]')) {
      button.setAttribute('aria-pressed', String(this.hidden.has(Number(button.dataset.hideMesh))));
      button.textContent = this.hidden.has(Number(button.dataset.hideMesh)) ? 'Show' : 'Hide';
    }
  }
}
