// Revisions and versions: back, forth, kept under a name. Mixed into the clip screen.
import { post } from "./api.js";

export const revising = {
  async step(way) {
    if (!this.ready) return;
    await this.guard(async () => this.apply(await post(`${this.base}/${way}?near=${this.frame}`)));
  },

  takeVersions(versions) {
    this.versions = versions;
    const current = versions.find((version) => version.current);
    this.versionWords = `${this.revisionWords} · ${current ? current.name : `${versions.length || "none"} kept`}`;
  },

  async keepVersion() {
    await this.guard(async () => {
      this.takeVersions((await post(`${this.base}/versions`, { name: this.versionName })).versions);
      this.versionName = "";
      this.price();
    });
  },

  async goTo(version) {
    await this.guard(async () => this.apply(await post(`${this.base}/versions/${version.id}?near=${this.frame}`)));
  },
};
