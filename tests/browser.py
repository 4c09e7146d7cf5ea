"""Pages in a headless Chromium, as a person has them: helpers of the tests that open pages."""
import json
import os
import time

from selenium import webdriver
from selenium.webdriver.chrome.options import Options
from selenium.webdriver.chrome.service import Service
from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys  # for the tests

BY = By.CSS_SELECTOR


class Browser:
    def __init__(self, width=1280, height=800, graphics=True, scripts=True):
        options = Options()
        # Without a graphics card, and as root in a container.
        words = ["--headless=new", "--no-sandbox", "--disable-dev-shm-usage", "--hide-scrollbars", "--force-device-scale-factor=1", f"--window-size={width},{height}"]
        words += ["--use-angle=swiftshader", "--enable-unsafe-swiftshader"] if graphics else ["--disable-3d-apis"]
        for word in words:
            options.add_argument(word)
        if not scripts:
            options.add_experimental_option("prefs", {"profile.managed_default_content_settings.javascript": 2})
        options.set_capability("goog:loggingPrefs", {"browser": "ALL"})
        self.driver = webdriver.Chrome(service=Service("/usr/bin/chromedriver"), options=options)
        self.driver.set_script_timeout(60)
        self.size(width, height)

    def size(self, width, height):
        self.driver.execute_cdp_cmd("Emulation.setDeviceMetricsOverride", {"width": width, "height": height, "deviceScaleFactor": 1, "mobile": False})

    def media(self, kind="", **features):
        """As on paper ("print"), or with a taste: prefers_color_scheme="dark"."""
        self.driver.execute_cdp_cmd("Emulation.setEmulatedMedia", {"media": kind, "features": [{"name": k.replace("_", "-"), "value": v} for k, v in features.items()]})

    def open(self, address):
        """Until the page says that it is ready, or why not."""
        self.driver.get(address if "://" in address else "file://" + os.path.abspath(address))
        self.wait("document.documentElement.dataset.ready || (document.getElementById('saying') || {}).className?.includes('bad')")
        return self

    def wait(self, condition, seconds=60):
        end = time.time() + seconds
        while not self.js("return !!(" + condition + ")"):
            if time.time() > end:
                raise AssertionError(f"waited in vain for {condition}; the page says: {self.text('body')[:500]}; {self.log()}")
            time.sleep(0.03)

    def js(self, text, *words):
        return self.driver.execute_script(text, *words)

    def js_later(self, text, *words):
        """A script that calls its last argument."""
        return self.driver.execute_async_script(text, *words)

    def text(self, where):
        return self.js("return document.querySelector(arguments[0])?.innerText ?? null", where)

    def click(self, where):
        self.driver.find_element(BY, where).click()

    def point(self, where, x, y):
        """The pointer over a place of an element, counted from its upper left corner."""
        element = self.driver.find_element(BY, where)
        box = element.size
        return ActionChains(self.driver, duration=10).move_to_element_with_offset(element, round(x - box["width"] / 2), round(y - box["height"] / 2))

    def keys(self, *keys):
        ActionChains(self.driver).send_keys(*keys).perform()

    def choose(self, where, value):
        self.js("const e = document.querySelector(arguments[0]); e.value = arguments[1]; e.dispatchEvent(new Event('input', {bubbles: true})); e.dispatchEvent(new Event('change', {bubbles: true}))", where, str(value))

    def log(self):
        """What the browser complained about."""
        return [entry["message"] for entry in self.driver.get_log("browser") if entry["level"] == "SEVERE"]

    def png(self):
        return self.driver.get_screenshot_as_png()

    def quit(self):
        self.driver.quit()


def data_of(html, part):
    """A part of a page as JSON, without a browser."""
    begin = html.index(f'id="{part}">') + len(f'id="{part}">')
    return json.loads(html[begin:html.index("</script>", begin)])
