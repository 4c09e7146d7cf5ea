"""Tests that open pages: one browser for all tests of a class."""
from browser import Browser
from tool import ToolTest


class PageTest(ToolTest):
    @classmethod
    def setUpClass(cls):
        cls.browser = Browser()

    @classmethod
    def tearDownClass(cls):
        cls.browser.quit()

    def setUp(self):
        super().setUp()
        self.browser.log()

    def opened(self, page):
        """In the browser, drawn, without a complaint."""
        self.browser.log()
        self.browser.open(page)
        self.assertEqual(self.browser.log(), [])

    def saved(self, label):
        """What a button gives to the person, as text."""
        return self.browser.js_later("""
            const done = arguments[1], was = URL.createObjectURL;
            URL.createObjectURL = (blob) => { blob.text().then(done); URL.createObjectURL = was; return was.call(URL, blob); };
            [...document.querySelectorAll('button')].find((b) => b.textContent === arguments[0]).click();""", label)
